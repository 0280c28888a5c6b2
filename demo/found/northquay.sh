# How the harbour's host is found.
groupadd -g 5141 tickets
useradd -m -u 1038 -c 'Brian McCarthy' -s /bin/bash -G tickets brian.mccarthy
useradd -m -u 1037 -c 'H. Roux' -s /bin/bash -G tickets hroux
useradd -m -u 1600 -c 'Tuva Moe' -s /bin/bash -G tickets tuva.moe
useradd -m -u 1045 -c 'Dag Solberg' -s /bin/bash dag.solberg
useradd -m -u 1702 -c 'Wilma Toft' -s /bin/bash -G tickets wilma.toft
useradd -m -u 1800 -c 'Nightly backup' -s /bin/sh svc-backup
