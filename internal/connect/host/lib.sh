# Hen Roost on a host: what both a survey and a batch of changes begin with.
LC_ALL=C PATH=/usr/sbin:/usr/bin:/sbin:/bin
export LC_ALL PATH
umask 022
set -f
nl='
'

# state: a line for each account and group, as the system itself sees them: of two of one name the first.
# A:name:uid:group:disabled:home:shell:full name and G:name:gid:members. T:name:line is a name that stands
# again, B:file:line:text a line that is no account or group, N:name an account that asks nobody for a password,
# W:name one whose password must be changed at the next sign-in (shadow(5): its last change is on day 0).
# Hashes stay on the host: all that is told is whether the password can be used. Then keys (K:name:key), the
# lines of sudoers (D:line), of doas (doas:line) and what PAM asks of su (su:line), the range of people's numbers
# (L:key:number), and what the host is (S:what:value), all in one reading by one awk: on a small host every further
# process is a tenth of the time. Of shadow(5) it tells the days of each account, age:name:changed:least:most:warning:
# inactive:expiry, of a group who administers it, admins:group:names, of our own elevation file what it gives,
# own:line, and what an account has lying about, leaves:what:name.
# With a file of names (aNAME, gNAME, mGROUP:MEMBER) it tells of those alone: of a group not its members, but
# I:group:member of each that was named and is in it; and of an account the groups that it is in, J:name:group,
# and their numbers, H:group:gid.
state() {
  only=$1 names=$2
  shift 2
  awk -F: -v only="$only" -v nopam="$nopam" -v ours_only="$ours_only" '
    BEGIN { # what srand returns the second time is the clock (POSIX); it is told before all else, since reading takes time
      srand(); now = srand(); day = int(now / 86400)
      if (!only) { print "S:clock:" now; fflush() }
    }
    function wants(key) { return !only || key in want }
    at == "n" { want[$0]; want[$1]; next } # of mGROUP:MEMBER that the group is asked too
    at == "k" {
      if ($0 == "") next
      f = substr($0, length($1) + 2); c = 0; letter = ours_only ? "l" : "K"; keyed[$1]
      if (f != "") {
        while ((getline l < f) > 0 && c++ < 1000) if (l == "# from here on: kept by Hen Roost") letter = "K"; else if (l !~ /^[ \t]*(#|$)/) print letter ":" $1 ":" substr(l, 1, 4096)
        close(f)
      }
      next
    }
    at == "l" { if (split($0, w, /[ \t]+/) >= 2 && (w[1] == "UID_MIN" || w[1] == "UID_MAX")) print "L:" w[1] ":" w[2]; next }
    # sudoers(5): rules go over lines, and lead to other files; how deep, sudo itself bounds at 128.
    function sudoers(line, deep, f, more, list) {
      rule = rule line
      if (sub(/\\$/, " ", rule)) return
      line = rule; rule = ""
      if (line ~ /^[ \t]*[@#]include(dir)?[ \t]/ && deep < 8) {
        f = line; sub(/^[ \t]*[@#]include(dir)?[ \t]+/, "", f); gsub(/["\\]/, "", f); sub(/[ \t]+$/, "", f)
        gsub(/%h/, host, f)
        if (f !~ /^\//) f = "/etc/" f
        if (f ~ /^\/etc\/sudoers\.d\/?$/ || f in included || f ~ /\047/) return # that folder comes by itself
        included[f]
        if (line !~ /includedir/) { file(f, deep); return }
        list = "ls -1 \047" f "\047 2>/dev/null"
        while ((list | getline more) > 0) if (more !~ /[.]|~$/) file(f "/" more, deep)
        close(list)
        return
      }
      if (line !~ /^[ \t]*($|Defaults)/) print "D:" substr(line, 1, 8192)
    }
    function file(f, deep, l) { while ((getline l < f) > 0) sudoers(l, deep + 1); close(f) }
    at == "d" { sudoers($0, 0); next }
    at == "o" { print "own:" substr($0, 1, 8192); next }
    at == "D" { print "doas:" substr($0, 1, 8192); next }
    at == "U" { if (/pam_wheel/ && !/^[ \t]*#/) print "su:" substr($0, 1, 8192); next }
    at == "a" {
      if ($3 != "" && wants("g" $1) && !($1 in kept)) { kept[$1]; print "admins:" $1 ":" substr($3, 1, 8192) }
      next
    }
    at == "H" { host = $0; print "S:host-name:" $0; next }
    at == "T" { type = $0; next }
    at == "R" { print "S:version:" type " " $0; next }
    at == "O" { if (sub(/^PRETTY_NAME=/, "")) { gsub(/^["\047]|["\047]$/, ""); print "S:system:" $0 } next }
    at == "B" { if (sub(/^btime /, "")) print "S:booted:" $0; next }
    at == "F" { # proc(5): of each leaf its address, then what it is for
      if (sub(/.*\|-- /, "")) leaf = $0
      else if (/host LOCAL/ && leaf !~ /^127\./ && !(leaf in ours)) { ours[leaf]; print "S:addresses:" leaf }
      next
    }
    at == "I" { split($0, w, " "); if (w[4] == "00") print "S:addresses:" w[1]; next } # of global scope
    /^[ \t]*(#|$)/ { next }
    at == "s" {
      if ($1 in shut) next
      shut[$1] = ($2 ~ /^[!*]/); real[$1] = ($2 !~ /^[!*]*$/); none[$1] = ($2 == ""); must[$1] = ($3 == "0"); past[$1] = ($8 != "" && $8 <= day)
      age[$1] = $3 ":" $4 ":" $5 ":" $6 ":" $7 ":" $8; next
    }
    at == "g" {
      if (NF < 3 || $3 !~ /^[0-9]+$/) { if (!only) print "B:group:" FNR ":" substr($0, 1, 200); next }
      if ($1 in gid) { if (wants("g" $1)) print "T:" $1 ":" FNR ":group"; next }
      gid[$1] = $3; if (!($3 in group)) group[$3] = $1
      if (!only) { print "G:" $1 ":" $3 ":" $4; next }
      asked = ("m" $1) in want
      if (asked || ("g" $1) in want) print "G:" $1 ":" $3 ":"
      n = split($4, in_it, ",")
      for (i = 1; i <= n; i++) {
        if (asked && ("m" $1 ":" in_it[i]) in want) print "I:" $1 ":" in_it[i]
        if (("a" in_it[i]) in want) { print "J:" in_it[i] ":" $1; print "H:" $1 ":" $3 }
      }
      next
    }
    NF < 7 || $3 !~ /^[0-9]+$/ || $1 == "" { if (!only) print "B:passwd:" FNR ":" substr($0, 1, 200); next }
    $1 in uid { if (wants("a" $1)) print "T:" $1 ":" FNR ":passwd"; next }
    {
      uid[$1] = $3
      if (!wants("a" $1)) next
      off = "no"
      if (past[$1] && shut[$1] && !(nopam && $1 in keyed)) off = "yes"; else if (past[$1] || (shut[$1] && real[$1])) off = "partly"
      name = $5; sub(/,+$/, "", name)
      print "A:" $1 ":" $3 ":" (($4 in group) ? group[$4] : $4) ":" off ":" $6 ":" $7 ":" name
      if (only && $4 in group) print "H:" group[$4] ":" $4
      if (must[$1]) print "W:" $1
      if ($3 == 0) print "super:" $1 ":" ((real[$1] && !shut[$1] && !past[$1]) ? "open" : "")
      if ($1 in age) print "age:" $1 ":" age[$1]
      if (!past[$1] && ($2 == "" || ($2 == "x" && none[$1]))) print "N:" $1
    }' at=n "$names" at=s /etc/shadow at=g /etc/group at=k - at=p /etc/passwd "$@"
}

# keyed NAME HOME: whether a home holds keys; file is then NAME:FILE. Through a link none are read, and the file is empty.
keyed() {
  file=$2/.ssh/authorized_keys
  if [ -L "$file" ] || [ -L "$2/.ssh" ]; then [ -e "$file" ] && file=$1:; elif [ -f "$file" ]; then file=$1:$file; else return 1; fi
}
# listing: those of NAME:HOME on standard input.
listing() { while IFS=: read -r n h; do ! keyed "$n" "$h" || printf '%s\n' "$file"; done; }
# few: those of all accounts in list, if they are few: then no further process is wanted for it.
few() {
  list= n=0
  while IFS=: read -r a x x x x h x; do
    n=$((n + 1))
    [ $n -lt 500 ] || return 1
    ! keyed "$a" "$h" || list=$list$file$nl
  done </etc/passwd
}
# Where PAM is not asked an expiry day shuts nobody out, and neither does a locked password where there are keys.
nopam=
[ -d /etc/pam.d ] || nopam=1

# homes NAMES: NAME:HOME of those accounts, or of all.
homes() { awk -F: 'FILENAME != "/etc/passwd" { if (sub(/^a/, "")) want[$0]; next } all || $1 in want { print $1 ":" $6 }' all="$1" "$2" /etc/passwd; }

# lying NAMES: what accounts have lying about outside their homes: cron tables, mail, jobs of at. The names are those
# of the files but for at, whose jobs are told apart by whose they are.
lying() {
  for f in /var/spool/cron/crontabs/* /var/spool/cron/*; do
    [ ! -f "$f" ] || printf 'leaves:cron-table:%s\n' "${f##*/}"
  done
  for f in /var/mail/* /var/spool/mail/*; do
    [ ! -s "$f" ] || [ -d "$f" ] || printf 'leaves:mail-spool:%s\n' "${f##*/}"
  done
  for f in /var/spool/cron/atjobs/[a-z]* /var/spool/at/[a-z]*; do
    if [ -f "$f" ]; then stat -c 'leaves:at-jobs:%U' /var/spool/cron/atjobs/[a-z]* /var/spool/at/[a-z]* 2>/dev/null; break; fi
  done
}

# read_all ONLY NAMES: all of it, or of what is named.
read_all() {
  defs=/etc/login.defs
  [ -r $defs ] || defs=/dev/null
  rules= facts=
  [ ! -r /etc/sudoers ] || rules=/etc/sudoers
  set +f
  for f in /etc/sudoers.d/*; do # sudo passes over names with a dot or a tilde; a name with a space is none that it reads
    case ${f##*/} in hen-roost | *.* | *~ | *[\ \'\"\\]*) ;; *) [ ! -r "$f" ] || rules="$rules $f" ;; esac
  done
  set -f
  [ ! -r /etc/doas.conf ] || facts="$facts at=D /etc/doas.conf"
  [ ! -r /etc/pam.d/su ] || facts="$facts at=U /etc/pam.d/su"
  [ ! -r /etc/gshadow ] || facts="$facts at=a /etc/gshadow"
  [ ! -r $own ] || facts="$facts at=o $own"
  whole=1
  [ -z "$1" ] || whole=
  if [ "$whole" ]; then
    for f in T:/proc/sys/kernel/ostype R:/proc/sys/kernel/osrelease O:/etc/os-release B:/proc/stat F:/proc/net/fib_trie \
      I:/proc/net/if_inet6; do
      [ ! -r "${f#*:}" ] || facts="$facts at=${f%%:*} ${f#*:}"
    done
    set +f
    lying
    set -f
  fi
  set -- "$1" "$2" at=l $defs at=H /proc/sys/kernel/hostname at=d $rules $facts
  if [ "$whole" ] && few; then
    state "$@" <<K
$list
K
  else
    homes "$whole" "$2" | listing | state "$@"
  fi
}
own=/etc/sudoers.d/hen-roost

# signed: when accounts signed in last, seen:name:date, and how often somebody tried in vain of late, failed:name. The
# system's own tools read its records; where it keeps none there is nothing to tell.
signed() {
  if [ -s /var/log/lastlog ] && command -v lastlog >/dev/null; then
    lastlog 2>/dev/null | awk 'NR > 1 && !/\*\*Never/ { print "seen:" $1 ":" $(NF - 4) " " $(NF - 3) " " $NF " " $(NF - 2) " " $(NF - 1) }'
  elif [ -s /var/log/wtmp ] && command -v last >/dev/null; then
    last -w -F -n 20000 2>/dev/null | awk 'NF > 8 && !($1 in told) && match($0, / [A-Z][a-z][a-z] [A-Z][a-z][a-z] +[0-9]+ [0-9:]+ [0-9]+/) {
      told[$1]; split(substr($0, RSTART + 1), w, " "); print "seen:" $1 ":" w[2] " " w[3] " " w[5] " " w[4] " +0000" }'
  fi
  if [ -s /var/log/btmp ] && command -v lastb >/dev/null; then
    lastb -w -n 20000 2>/dev/null | awk 'NF > 6 { n[$1]++ } END { for (a in n) print "failed:" a ":" n[a] }'
  fi
}

# elsewhere: accounts that the system knows and /etc/passwd does not, other:name:uid:home:shell:full name: a directory
# has them. It may be large, and it may be away: then the host is surveyed without it, and says so.
elsewhere() {
  asks=
  while read -r line; do
    case $line in passwd:*ldap* | passwd:*sss* | passwd:*winbind* | passwd:*nis* | passwd:*hesiod* | passwd:*extrausers*) asks=1 ;; esac
  done </etc/nsswitch.conf
  [ "$asks" ] && command -v getent >/dev/null || return
  limit=
  ! command -v timeout >/dev/null || limit='timeout 20'
  { $limit getent passwd </dev/null 2>/dev/null || echo "::"; } | awk -F: 'FILENAME == "/etc/passwd" { have[$1]; next }
    $0 == "::" { print "S:directory:does not answer"; next }
    NF > 6 && !($1 in have) && n++ < 200000 { print "other:" $1 ":" $3 ":" $6 ":" $7 ":" $5 }' /etc/passwd -
}
# kept: with what the accounts of this host are kept.
kept() {
  for tool in useradd usermod userdel groupadd groupmod groupdel gpasswd chpasswd chage; do
    command -v $tool >/dev/null || { echo S:tools:files; return; }
  done
  if command -v vipw >/dev/null; then echo S:tools:shadow; else echo S:tools:shadow-slow; fi
}
survey() { kept; signed; [ ! -r /etc/nsswitch.conf ] || elsewhere; read_all '' /dev/null && echo "Z:"; }
