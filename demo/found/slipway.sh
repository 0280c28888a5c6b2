# How the slipway's machine is found: lines written by hand.
cat >>/etc/passwd <<'P'
liv.hauge:x:1049:1049:Liv Hauge:/home/liv.hauge:/bin/ash
old.hand:x:1777:100::/home/old.hand:/bin/sh
P
cat >>/etc/shadow <<'P'
liv.hauge:*:19000:0:99999:7:::
old.hand:*:19000:0:99999:7:::
P
echo 'liv.hauge:x:1049:' >>/etc/group
mkdir -p /home/liv.hauge /home/old.hand
chown 1049:1049 /home/liv.hauge
chown 1777:100 /home/old.hand
