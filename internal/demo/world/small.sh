# One small host in namespaces of its own: NAME IP PORT SETUP. Everything in it is busybox, but for its ssh server. See host.go.
set -e
N=$1 IP=$2 PORT=$3 SETUP=$4 R=/mnt
mount -t tmpfs -o size=96m,mode=755 host $R
mkdir -p $R/bin $R/sbin $R/usr/bin $R/usr/sbin $R/etc/dropbear $R/proc $R/dev $R/tmp $R/run $R/root $R/home $R/var/log \
  $R/var/spool/cron/crontabs $R/old $R/lib64
chmod 1777 $R/tmp
B=$(command -v busybox)
cp "$B" $R/bin/busybox
for a in $(busybox --list-full); do mkdir -p $R/$(dirname $a); [ -e $R/$a ] || ln -s /bin/busybox $R/$a; done
D=$(command -v dropbear)
cp "$D" $R/usr/sbin/
for l in $(ldd "$D" | grep -o '/[^ ]*'); do mkdir -p $R$(dirname $l); cp -L $l $R$l; done
for l in /lib/*-linux-gnu/libnss_files.so.2; do mkdir -p $R$(dirname $l); cp -L $l $R$l; done
printf 'passwd: files\ngroup: files\nshadow: files\n' >$R/etc/nsswitch.conf
printf 'root:x:0:0:root:/root:/bin/sh\nnobody:x:65534:65534:nobody:/:/bin/false\n' >$R/etc/passwd
printf 'root:x:0:\nwheel:x:10:\nusers:x:100:\nnogroup:x:65534:\n' >$R/etc/group
printf 'root:*:19000:0:99999:7:::\nnobody:*:19000:0:99999:7:::\n' >$R/etc/shadow
chmod 640 $R/etc/shadow
printf '/bin/sh\n/bin/ash\n' >$R/etc/shells
mount -t proc proc $R/proc
mount -t tmpfs -o mode=755 dev $R/dev
mkdir $R/dev/pts
for d in null zero random urandom tty; do touch $R/dev/$d; mount --bind /dev/$d $R/dev/$d; done
mount -t devpts -o newinstance,gid=5,mode=620,ptmxmode=666 devpts $R/dev/pts
ln -s pts/ptmx $R/dev/ptmx
mkdir -p -m 700 $R/root/.ssh
echo "$MGMT_KEY" >$R/root/.ssh/authorized_keys
chmod 600 $R/root/.ssh/authorized_keys
hostname $N
printf '127.0.0.1 localhost\n%s %s\n' $IP $N >$R/etc/hosts
[ -z "$SETUP" ] || cat "$SETUP" >$R/setup
cd $R
pivot_root . old
cd /
exec chroot . /bin/sh -c "umount -l /old; rmdir /old; [ ! -f /setup ] || { sh -e /setup && rm /setup; }; exec /usr/sbin/dropbear -F -E -R -p $IP:$PORT -P /run/dropbear.pid"
