# One host in namespaces of its own: NAME IP PORT SETUP. See host.go.
set -e
N=$1 IP=$2 PORT=$3 SETUP=$4 M=/mnt
# With HOST_DISK its /etc, /var and /home stay there when it ends, as on a disk: then it is set up but once.
if [ -n "$HOST_DISK" ]; then
  mkdir -p $HOST_DISK/home
  mount --bind $HOST_DISK $M
else
  mount -t tmpfs -o size=96m,mode=755 host $M
fi
for d in etc var; do
  mkdir -p $M/$d.up $M/$d.wk
  mount -t overlay -o lowerdir=/$d,upperdir=$M/$d.up,workdir=$M/$d.wk host /$d
done
if [ -n "$HOST_DISK" ]; then mount --bind $M/home /home; else mount -t tmpfs -o size=${HOME_SIZE:-64m},mode=755 host /home; fi
mount -t tmpfs -o size=8m,mode=700 host /root
mount -t tmpfs -o size=8m,mode=755 host /run
mount -t tmpfs -o size=32m,mode=1777 host /tmp
mount -t devpts -o newinstance,gid=5,mode=620,ptmxmode=666 devpts /dev/pts
mkdir -p /run/sshd /run/lock
: >/run/utmp; : >/var/log/wtmp; : >/var/log/btmp; : >/var/log/lastlog
hostname $N
echo $N >/etc/hostname
printf '127.0.0.1 localhost\n%s %s\n' $IP $N >/etc/hosts
if [ ! -e /etc/hen-roost-host ]; then
# A clean base: the accounts of the machine below do not show through.
cat >/etc/passwd <<'P'
root:x:0:0:root:/root:/bin/bash
daemon:x:1:1:daemon:/usr/sbin:/usr/sbin/nologin
bin:x:2:2:bin:/bin:/usr/sbin/nologin
sys:x:3:3:sys:/dev:/usr/sbin/nologin
mail:x:8:8:mail:/var/mail:/usr/sbin/nologin
sshd:x:100:65534::/run/sshd:/usr/sbin/nologin
nobody:x:65534:65534:nobody:/nonexistent:/usr/sbin/nologin
P
sed 's/:.*/:*:19000:0:99999:7:::/' /etc/passwd >/etc/shadow
chmod 640 /etc/shadow
printf 'root:x:0:\ndaemon:x:1:\nbin:x:2:\nsys:x:3:\ntty:x:5:\nmail:x:8:\nutmp:x:43:\nusers:x:100:\nnogroup:x:65534:\n' >/etc/group
sed 's/:.*/:*::/' /etc/group >/etc/gshadow
: >/etc/subuid
: >/etc/subgid
rm -f /etc/ssh/ssh_host_* /etc/passwd- /etc/shadow- /etc/group- /etc/gshadow- /etc/.pwd.lock
rm -rf /etc/sudoers /etc/sudoers.d
mkdir -m 750 /etc/sudoers.d
printf 'root ALL=(ALL:ALL) ALL\n%%sudo ALL=(ALL:ALL) ALL\n@includedir /etc/sudoers.d\n' >/etc/sudoers
chmod 440 /etc/sudoers
ssh-keygen -q -t ed25519 -N '' -C $N -f /etc/ssh/ssh_host_ed25519_key
: >/etc/hen-roost-host
fi
rm -f /etc/passwd.lock /etc/shadow.lock /etc/group.lock /etc/gshadow.lock /etc/subuid.lock /etc/subgid.lock # as at every boot
mkdir -p -m 700 /root/.ssh
echo "$MGMT_KEY" >/root/.ssh/authorized_keys
chmod 600 /root/.ssh/authorized_keys
mount -o remount,bind,ro / 2>/dev/null || : # what is not the host's own is the machine's, and stays as it is
[ -z "$SETUP" ] || [ -e /etc/hen-roost-setup ] || sh -e "$SETUP"
[ -z "$HOST_DISK" ] || : >/etc/hen-roost-setup
exec /usr/sbin/sshd -D -e -f /dev/null -p $PORT -h /etc/ssh/ssh_host_ed25519_key \
  -o ListenAddress=$IP -o UsePAM=yes -o PidFile=/run/sshd.pid -o PermitRootLogin=prohibit-password \
  -o AuthorizedKeysFile=.ssh/authorized_keys -o MaxStartups=200:30:400 -o PrintMotd=no
