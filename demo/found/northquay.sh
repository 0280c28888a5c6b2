# How the harbour's host is found.
groupadd -g 5141 tickets
useradd -m -u 1038 -c 'Brian McCarthy' -s /bin/bash -G tickets brian.mccarthy
useradd -m -u 1037 -c 'H. Roux' -s /bin/bash -G tickets hroux
useradd -m -u 1600 -c 'Tuva Moe' -s /bin/bash -G tickets tuva.moe
useradd -m -u 1045 -c 'Dag Solberg' -s /bin/bash dag.solberg
useradd -m -u 1702 -c 'Wilma Toft' -s /bin/bash -G tickets wilma.toft
useradd -m -u 1800 -c 'Nightly backup' -s /bin/sh svc-backup
# two who sold tickets in other summers share a key, and left their homes behind
mkdir -m 700 /home/tuva.moe/.ssh /home/wilma.toft/.ssh
echo 'ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIHq0m3r1Zb7cQ2t9d0uX5w8y1e4i6o7p9a2s3f5g7h8j tickets@quay' | tee /home/tuva.moe/.ssh/authorized_keys >/home/wilma.toft/.ssh/authorized_keys
chown -R tuva.moe /home/tuva.moe/.ssh
chown -R wilma.toft /home/wilma.toft/.ssh
mkdir /home/ragna.dahl /home/kiosk
echo 'lost and found, summer 2024' >/home/ragna.dahl/notes
chown -R 1655 /home/ragna.dahl
chown -R 1656 /home/kiosk
touch -d 2024-08-30 /home/ragna.dahl/notes /home/ragna.dahl /home/kiosk
