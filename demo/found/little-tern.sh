# How little-tern is found: rebuilt in spring, so almost empty.
useradd -m -u 1021 -c 'Gunnar Holt' -s /bin/bash gunnar.holt
usermod -L -e 1 gunnar.holt
useradd -m -u 1800 -c 'Nightly backup' -s /bin/sh svc-backup
# the yard's account, whose password everybody knows
useradd -m -u 1000 -c 'Delivered with it' -s /bin/bash guest
