# What goes with an account, and what does not: homes, what lies about elsewhere, processes, files of its own.

# leave_home NAME HOW: finds the home that goes with an account, and archives it if it is to be, with its mail and cron
# table. Nothing goes that is not the account's own folder and nobody else's. A home that is gone is well.
leave_home() {
  home=
  h=$(home_of "$1")
  [ -d "$h" ] || return 0
  if ! leaves "$1" "$h"; then rc=1; note "the home $h is not a folder of $1 alone, and was left; the account too"; return 1; fi
  home=$h
  case $2 in archive | seal) archive "$1" "$h" "$(stat -c %u -- "$h")" "$2" ;; esac
}
# archive NAME HOME NUMBER HOW: into /var/backups/homes, whole before anything goes. What is to be sealed waits there in a
# folder of its own until it is fetched.
archive() {
  to=/var/backups/homes
  [ "$4" != seal ] || to=$to/sealing
  f= n= day=$(($(date +%s) / 86400))
  mkdir -p -m 700 $to || { rc=1; note "the home $2 could not be archived"; return 1; }
  name=$(printf %s "$1" | tr '/ ' '__')
  while f=$to/$name-$3-$day$n.tar.gz; [ -e "$f" ]; do n=_$((${n#_} + 1)); done # an earlier one of that day is somebody's, too
  home=$2
  set -- "${2#/}"
  [ -z "$(home_of "$name")" ] ||
    for x in "/var/spool/cron/crontabs/$name" "/var/spool/cron/$name" "/var/mail/$name"; do [ ! -f "$x" ] || set -- "$@" "${x#/}"; done
  { (umask 077; tar -C / -czf "$f.new" -- "$@") && sync "$f.new" && mv "$f.new" "$f"; } 2>"$lock/said" ||
    { rc=1; rm -f "$f.new"; note "the home $home could not be archived: $(head -c 300 "$lock/said")"; home=; return 1; }
  note "its home is in $f"
}
# clear_home: when its account is gone, the home goes too.
clear_home() {
  [ $rc = 0 ] && [ -n "$home" ] || return 0
  apart=
  ! rm -f --one-file-system -- "$lock/none" 2>/dev/null || apart=--one-file-system
  rm -rf $apart -- "$home" 2>"$lock/said" || { rc=1; note "its home $home could not be removed: $(head -c 300 "$lock/said")"; }
}
# lying_about NAME UID MAIL: cron table and jobs of at, which would run for whoever has that number next, go with every
# account; its mail where its home goes. Files of its own elsewhere are told, not touched; the search ends by itself.
lying_about() {
  [ $rc = 0 ] || return 0
  for f in "/var/spool/cron/crontabs/$1" "/var/spool/cron/$1"; do
    [ ! -f "$f" ] || { rm -f -- "$f" && note "its cron table was removed"; }
  done
  ! shared "$1" "$2" || return 0
  set +f
  for f in /var/spool/cron/atjobs/[a-z]* /var/spool/at/[a-z]*; do
    [ ! -f "$f" ] || [ "$(stat -c %u -- "$f")" != "$2" ] || { rm -f -- "$f" && note "a job of at was removed"; }
  done
  set -f
  [ -z "$3" ] || for f in "/var/mail/$1" "/var/spool/mail/$1"; do
    [ ! -f "$f" ] || { rm -f -- "$f" && note "its mail was removed"; }
  done
  limit=
  ! command -v timeout >/dev/null || limit='timeout 20'
  rm -f "$lock/cut"
  elsewhere=$(mounts | while read -r m; do
    { $limit find "$m" -xdev -user "$2" ! -path '/proc/*' 2>/dev/null
      case $? in 124 | 143) printf ' %s' "$m" >>"$lock/cut" ;; esac; } | head -n 200
  done | sort -u)
  [ ! -s "$lock/cut" ] || note "the search for files of number $2 was ended after 20 s, and may lack some, in$(cat "$lock/cut")"
  [ -z "$elsewhere" ] || note "files of number $2 are left elsewhere: $(printf '%s\n' "$elsewhere" | head -n 8 | tr '\n' ' ')$(printf '%s\n' "$elsewhere" | awk 'END { if (NR > 8) print "and " NR - 8 " more" }')"
}
# shared NAME UID: whether that number is somebody else's too, or the superuser's: then nothing of it is touched.
shared() { [ "$2" = 0 ] || awk -F: -v n="$1" -v u="$2" '$1 != n && $3 == u { found = 1 } END { exit !found }' /etc/passwd; }
# finished UID: ends what an account that is shut still runs, gently first.
finished() {
  for signal in TERM KILL; do
    n=0
    while set +f; p=$(stat -c '%u %n' /proc/[0-9]* 2>/dev/null | awk -v u="$1" '$1 == u { sub(/.*\//, ""); print }'); set -f; [ "$p" ] && [ $n -lt 20 ]; do
      [ $n -gt 0 ] || kill -$signal $p 2>/dev/null
      n=$((n + 1))
      sleep 0.1 2>/dev/null || sleep 1
    done
    [ "$p" ] || return 0
  done
  note "its processes do not end: $(echo $p)"
}
# remove NAME HOW: HOW is what becomes of its home, empty to leave it.
remove() {
  u=$(awk -F: -v n="$1" '$1 == n { print $3; exit }' /etc/passwd)
  home=
  awk -F: -v n="$1" '$1 == n && $2 ~ /^[!*]/ && $8 != "" && $8 <= 1 { ok = 1 } END { exit !ok }' /etc/shadow && ! shared "$1" "$u" && finished "$u"
  case $2 in archive | seal | remove) leave_home "$1" "$2" || return ;; esac
  if command -v userdel >/dev/null; then run userdel -- "$1"; else one_file "del	$1"; fi
  clear_home
  [ -z "$u" ] || lying_about "$1" "$u" "$home"
}
# leaves NAME HOME: the folder is the account's own, at least two deep, and neither holds nor is another's home; and
# nobody but root can put another in the place of one it stands in.
leaves() { own_folder "$2" "$(awk -F: -v n="$1" '$1 == n { print $3; exit }' /etc/passwd)" "$1"; }
# own_folder HOME UID NAME: the same of a folder of a number that may be nobody's any more.
own_folder() {
  case $1 in /*/*) ;; *) return 1 ;; esac
  case $1 in */ | *//* | */./* | */../* | */. | */..) return 1 ;; esac
  # what is mounted in it is not its own, and rm of a small system would go through it
  awk -v h="$1" '{ gsub(/\\040/, " ", $2) } $2 == h || index($2, h "/") == 1 { bad = 1 } END { exit bad }' /proc/mounts || return 1
  [ ! -L "$1" ] && [ -d "$1" ] && [ "$2" != 0 ] && [ "$(stat -c %u -- "$1")" = "$2" ] || return 1
  p=$(readlink -f -- "${1%/*}") || return 1
  while [ -n "$p" ]; do
    set -- "$1" "$2" "$3" "$(stat -c '%u %a' -- "$p")"
    case $4 in "0 "*[2367]? | "0 "*[2367]) case $4 in "0 1"???) ;; *) return 1 ;; esac ;; "0 "*) ;; *) return 1 ;; esac
    p=${p%/*}
  done
  awk -F: -v n="$3" -v h="$1" '$1 != n && ($6 == h || index($6, h "/") == 1) { bad = 1 } END { exit bad }' /etc/passwd
}
# drop_home HOME UID NAME HOW: a home by itself; the account, if there still is one, stays.
drop_home() {
  if [ ! -d "$1" ]; then return; fi
  if ! own_folder "$1" "$2" "$3"; then rc=1; note "$1 is not a folder of number $2 alone, and was left"; return; fi
  home=$1
  case $4 in archive | seal) archive "${3:-home}" "$1" "$2" "$4" || return ;; esac
  clear_home
}
# restore STEP NAME UID HOME: the home that was archived when an account of that name and number was removed comes back.
restore() {
  [ ! -e "$4" ] && [ ! -L "$4" ] || return 1
  set +f
  last=
  for f in /var/backups/homes/"$2-$3"-[0-9]*.tar.gz; do
    case ${f#/var/backups/homes/"$2-$3"-} in *[!0-9_]*.tar.gz) continue ;; esac
    [ ! -f "$f" ] || [ "$last" -nt "$f" ] || last=$f
  done
  set -f
  [ "$last" ] && tar -tzf "$last" 2>/dev/null | grep -qxF -- "${4#/}/" || return 1
  (umask 022; mkdir -p "${4%/*}"; tar -C / -xzpf "$last" --numeric-owner -- "${4#/}") 2>"$lock/said" || { echo "$1:its home could not be brought back from $last: $(head -c 200 "$lock/said" | tr '\n:' '  ')" >>"$lock/words"; return 0; }
  echo "$1:its home came back from $last" >>"$lock/words"
}
# back NAME NUMBER: the home of an account that is there, with that number and without a home.
back() {
  h=$(awk -F: -v n="$1" -v u="$2" '$1 == n && $3 == u { print $6; exit }' /etc/passwd)
  [ "$h" ] && restore "" "$1" "$2" "$h" && printf 'back%s\n' "$(cat "$lock/words")"
}
