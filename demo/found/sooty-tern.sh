# How sooty-tern is found: the last engineer liked short names.
groupadd -g 27 sudo
useradd -m -u 1001 -c 'Marit Fell' -s /bin/bash mfell
useradd -m -u 1500 -c 'Kari' -s /bin/bash kari.berg
useradd -m -u 1010 -c 'Kari Berg' -s /bin/bash kberg
useradd -m -u 1025 -c 'Jens-Ole Krag' -s /bin/bash jens-ole.krag
useradd -m -u 1701 -c 'Jarle Holm' -s /bin/bash jarle.holm
useradd -m -u 1800 -c 'Nightly backup' -s /bin/sh svc-backup
