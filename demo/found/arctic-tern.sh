# How arctic-tern is found: accounts made by hand over the years.
groupadd -g 1900 crew
groupadd -g 5111 deck
groupadd -g 27 sudo
useradd -m -u 1001 -c 'Marit Fell' -s /bin/bash marit.fell
useradd -m -u 1502 -c 'Jorunn Strand' -s /bin/bash jorunn.strand
useradd -m -u 1003 -c "Sean O'Neill" -s /bin/bash sean.oneill
useradd -m -u 1014 -c 'Hanne Vik,,,' -s /bin/sh hanne.vik
useradd -m -u 1024 -c 'Astrid Lindqvist' -s /bin/bash -G deck astrid.lindqvist
useradd -m -u 1030 -c 'Olga Petrova' -s /bin/bash olga.petrova
# left two summers ago, and can still become superuser
useradd -m -u 1701 -c 'Jarle Holm' -s /bin/bash -G crew,sudo jarle.holm
useradd -m -u 1702 -c 'Wilma Toft' -s /bin/bash -G crew,deck wilma.toft
useradd -m -u 1800 -c 'Nightly backup' -s /bin/sh svc-backup
