# Hen Roost on a host: a batch of changes. One writer on this host at a time: a batch whose connection broke may still be running.
lock=/run/hen-roost.lock
[ -d /run ] || lock=/tmp/hen-roost.lock
# What is urgent waits for no batch: it has a folder of its own, and the account tools their own locks.
[ -z "$urgent" ] || lock=$lock.$$
tries=0
until mkdir "$lock" 2>/dev/null; do
  holder=$(cat "$lock/pid" 2>/dev/null)
  if [ -n "$holder" ] && kill -0 "$holder" 2>/dev/null; then :; elif [ $tries -gt 1 ]; then rm -rf "$lock"; fi
  tries=$((tries + 1))
  if [ $tries -gt 60 ]; then echo "X:another batch has held $lock for a minute (process $holder)"; exit 0; fi
  sleep 1
done
trap 'rm -rf "$lock"' EXIT
trap 'exit 1' HUP INT TERM PIPE
echo $$ >"$lock/pid" || { echo "X:cannot write to $lock: is the disk full?"; exit 0; }

# What the batch speaks of is read, and told; what is to be done about it comes back on standard input, so that
# it is judged where all judging is done. s and e stand around the commands of each step.
tell() {
  read_all 1 "$lock/names" || { echo "X:the accounts cannot be read, or the disk is full"; exit 0; }
  [ -z "$folders" ] || { signed; homes_of <"$lock/names"; }
}
s() { id=$1 say= rc=0; }
e() { printf 'R:%s:%s:%s\n' "$id" "$rc" "$say"; }
note() { say="$say${say:+; }$(printf %s "$1" | tr '\n' ' ')"; }
# run COMMAND…: its complaints become the step's words.
run() {
  if "$@" </dev/null >/dev/null 2>"$lock/said"; then rc=0; else rc=$?; fi # a file, since a substitution costs a fork for each step
  [ ! -s "$lock/said" ] || note "$(cat "$lock/said")"
  [ $rc = 0 ] || note "${1##*/} ended with $rc"
}
# locked: rewrites the account files (files.sh) under the system's own lock. Where vipw is, it takes that lock as every
# tool of the shadow suite and PAM do, lckpwdf(3), and hands us the time. Busybox's tools take the new file for the lock.
locked() {
  rm -f "$lock"/passwd "$lock"/shadow "$lock"/group "$lock"/gshadow "$lock"/sub?id "$lock/keys" "$lock/words"
  : >"$lock/said"
  if command -v vipw >/dev/null; then
    for f in /etc/passwd.lock /etc/shadow.lock /etc/group.lock /etc/gshadow.lock; do # left behind by a power cut: who held it is no more
      [ ! -e $f ] || [ "$(stat -c %Y $f)" -ge "$(awk '$1 == "btime" { print $2 }' /proc/stat)" ] || rm -f $f
    done
    (unset VISUAL; EDITOR="/bin/sh $lock/edit $lock shadow" vipw -q) </dev/null >/dev/null 2>"$lock/said"
    return
  fi
  held=
  for f in group gshadow shadow passwd; do
    [ -e "/etc/$f" ] || continue
    n=0
    until (set -C; : >"/etc/$f+") 2>/dev/null; do
      if [ "$(find "/etc/$f+" -mmin +2 2>/dev/null)" ]; then rm -f "/etc/$f+"; continue; fi # of a tool that was cut off
      n=$((n + 1))
      if [ $n -gt 15 ]; then echo "another tool has held /etc/$f+ for 15 seconds" >"$lock/said"; rm -f $held; return 1; fi
      sleep 1
    done
    held="$held /etc/$f+"
  done
  /bin/sh "$lock/edit" "$lock" files </dev/null >/dev/null 2>"$lock/said"
  n=$?
  rm -f $held
  return $n
}
# files: what the lines on standard input ask of the account files (see files.sh), homes of new accounts too, with an
# answer for each step.
files() {
  cat >"$lock/ops" || { echo "X:cannot write to $lock: is the disk full?"; exit 0; }
  if locked && [ -s "$lock/done" ]; then
    [ ! -s "$lock/made" ] || homes_made
    ! command -v nscd >/dev/null || { nscd -i passwd; nscd -i group; } 2>/dev/null # it would answer as before for a while
    awk -F: 'FILENAME ~ /words$/ { i = $1; sub(/^[^:]*:/, ""); w[i] = w[i] (w[i] == "" ? "" : "; ") $0; next }
      { i = $1; s = $2; sub(/^[^:]*:[^:]*:/, ""); print "R:" i ":" s ":" $0 (($0 != "" && w[i] != "") ? "; " : "") w[i] }' \
      "$(exists "$lock/words")" "$lock/done"
  else
    said="$(head -c 400 "$lock/said" | tr '\n:' '  ')" awk -F'\t' '!($1 in told) { told[$1]; print "R:" $1 ":1:the account files were not written: " ENVIRON["said"] }' \
      "$lock/ops"
  fi
}
# clear_way HOME: whether nobody but the superuser can say where a home comes to lie: each folder above it, and each link
# on the way, is root's own. Why says what is not.
clear_way() {
  p=${1%/*} why=
  while [ "$p" ]; do
    if [ -L "$p" ] && [ "$(stat -c %u -- "$p")" != 0 ]; then why="$p is a link that somebody else made"; return 1; fi
    if [ -e "$p" ] && ! [ -O "$p" ]; then why="$p belongs to somebody else"; return 1; fi
    p=${p%/*}
  done
}
# to_home HOME COMMAND…: run, of what makes a home or moves one there.
to_home() {
  clear_way "$1" || { rc=1; note "its home $1 is not taken: $why"; return; }
  shift
  run "$@"
}
exists() { [ -e "$1" ] && echo "$1" || echo /dev/null; }
# homes_made: the homes of accounts that were just written, STEP:NAME:UID:GID:HOME in $lock/made. They are filled while they are root's
# own and nobody else can enter them, and handed over at the end. Many at once cost a process for each file of the
# skeleton, and one for each home.
homes_made() {
  read -r mode <"$lock/mode"
  read -r skel <"$lock/skel"
  : >"$lock/fresh"
  set --
  umask 077
  while IFS=: read -r i n u g h; do
    if restore "$i" "$n" "$u" "$h"; then continue; fi
    if [ -e "$h" ] || [ -L "$h" ]; then echo "$i:its home $h was there already, and was left as it is" >>"$lock/words"; continue; fi
    clear_way "$h" || { echo "$i:its home $h was not made: $why" >>"$lock/words"; continue; }
    [ -d "${h%/*}" ] || (umask 022; mkdir -p "${h%/*}") 2>/dev/null
    set -- "$@" "$h"
    printf '%s:%s:%s:%s:%s\n' "$i" "$n" "$u" "$g" "$h" >>"$lock/fresh"
  done <"$lock/made"
  if [ $# -gt 0 ]; then
    mkdir -- "$@" 2>"$lock/said" || while IFS=: read -r i n u g h; do # one that could not be made is nobody's to fill
      [ -d "$h" ] || { echo "$i:its home $h could not be made: $(grep -F -m1 "$h" "$lock/said" | tr : ' ')" >>"$lock/words"; continue; }
      printf '%s:%s:%s:%s:%s\n' "$i" "$n" "$u" "$g" "$h"
    done <"$lock/fresh" >"$lock/fresh.left" && [ ! -e "$lock/fresh.left" ] || mv "$lock/fresh.left" "$lock/fresh"
    set --
    while IFS=: read -r i n u g h; do set -- "$@" "$h"; done <"$lock/fresh"
  fi
  if [ $# -gt 0 ]; then
    for h; do : >"$h/$half"; done # until it is whole, should the power be cut
    set +f
    for f in "$skel"/* "$skel"/.[!.]*; do
      if [ -L "$f" ] || [ -d "$f" ]; then for h; do cp -a "$f" "$h/"; done; elif [ -f "$f" ]; then filled "$f" "$@"; fi
    done
    set -f
    if [ -s "$lock/keys" ]; then
      (IFS=$nl; mkdir -- $(awk -F'\t' 'FILENAME ~ /keys$/ { k[$2]; next } { split($0, m, ":"); if (m[2] in k) { sub(/^[^:]*:[^:]*:[^:]*:[^:]*:/, ""); print $0 "/.ssh" } }' \
        "$lock/keys" "$lock/fresh") 2>/dev/null)
      awk -F'\t' -v mark="$mark" 'FILENAME ~ /fresh$/ { split($0, m, ":"); sub(/^[^:]*:[^:]*:[^:]*:[^:]*:/, ""); h[m[2]] = $0; next }
        $2 in h { f = h[$2] "/.ssh/authorized_keys"; if (mark != "" && !($2 in b)) print mark > f; b[$2]; print $3 > f; if (f != last) { if (last != "") close(last); last = f } }' \
        "$lock/fresh" "$lock/keys"
    fi
    chmod "$mode" -- "$@"
    ! command -v restorecon >/dev/null || restorecon -R -- "$@" 2>/dev/null
    while IFS=: read -r i n u g h; do chown -hR "$u:$g" -- "$h"; done <"$lock/fresh"
    for h; do shift; set -- "$@" "$h/$half"; done
    rm -f -- "$@"
  fi
  [ ! -s "$lock/keys" ] || while IFS=: read -r i n u g h; do # of one whose home was there: written as the account itself
    if ! grep -q "^$i:" "$lock/fresh" && text=$(awk -F'\t' -v n="$n" '$2 == n { print $3 }' "$lock/keys") && [ "$text" ]; then
      rc=0 say=
      keys "$n" "$text$nl"
      [ -z "$say" ] || echo "$i:$say" >>"$lock/words"
    fi
  done <"$lock/made"
  umask 022
}
half=.hen-roost-new
# finish_home NAME: of an account that was made before the power was cut: a home that is missing, or was not filled.
finish_home() {
  h=$(home_of "$1") u=$(awk -F: -v n="$1" '$1 == n { print $3; exit }' /etc/passwd)
  g=$(awk -F: -v n="$1" '$1 == n { print $4; exit }' /etc/passwd)
  case $h in /*/*) ;; *) return ;; esac
  if [ -e "$h/$half" ] && [ "$(stat -c %u -- "$h")" = "$u" ]; then # it was being handed over
    chown -hR "$u:$g" -- "$h" && rm -f -- "$h/$half"
    return
  fi
  if [ -d "$h" ] && [ ! -L "$h" ] && [ "$(stat -c %u -- "$h")" = 0 ] && [ "$u" != 0 ]; then rmdir -- "$h" 2>/dev/null; fi # made, and no more
  [ ! -e "$h" ] || [ -e "$h/$half" ] || return
  clear_way "$h" || { note "its home $h was not made: $why"; return; }
  rm -rf -- "$h"
  { mkdir -m 700 -- "$h" && { [ ! -d /etc/skel ] || cp -a /etc/skel/. "$h/"; } &&
    chown -hR "$u:$g" -- "$h"; } 2>"$lock/said" ||
    note "its home $h could not be made: $(head -c 200 "$lock/said")"
}
# filled FILE HOMES…: one file of the skeleton for all of them.
filled() (
  f=$1
  shift
  for h; do shift; set -- "$@" "$h/${f##*/}"; done
  tee -- "$@" <"$f" >/dev/null && chmod "$(stat -c %a "$f")" -- "$@"
)
# keys NAME TEXT: written as the account itself, so that a link in its home leads nowhere it could not go alone. Where
# only ours are looked after, what stands above our mark stays, less what is ours now.
mark=
[ -z "$ours_only" ] || mark='# from here on: kept by Hen Roost'
keys() {
  [ $rc = 0 ] || return
  out=$(printf '%s' "$2" | mark=$mark as "$1" 'umask 077; f=.ssh/authorized_keys; cd && mkdir -p .ssh && { if [ -z "$mark" ]; then cat; else
      cat >$f.ours; [ ! -f $f ] || awk -v mark="$mark" "\$0 == mark { exit } { print }" $f | grep -vxF -f $f.ours; echo "$mark"; cat $f.ours; rm -f $f.ours; fi; } >$f.new && mv -f $f.new $f' 2>&1) ||
    { rc=$?; note "authorized keys of $1: $out (exit $rc)"; }
}
# as NAME COMMAND: what is run as an account. su asks whether it may sign in, which one that is shut or whose password
# must be changed may not.
as() {
  if setpriv --reuid=0 --regid=0 --clear-groups true 2>/dev/null && gid=$(id -g -- "$1"); then
    HOME=$(home_of "$1") setpriv --reuid="$1" --regid="$gid" --init-groups -- /bin/sh -c "$2"
  else
    HOME=$(home_of "$1") su -s /bin/sh -c "$2" -- "$1"
  fi
}
home_of() { awk -F: -v n="$1" '$1 == n { print $6; exit }' /etc/passwd; }
# password NAME VALUE NEW HOW: HOW are options of chpasswd; over standard input, so that it stands in no process list. An account that is shut, or
# whose password is locked, stays so, since a new one would open it; one that is made now is neither.
password() {
  [ $rc = 0 ] || return
  [ "$3" ] && locked= || locked=$(awk -F: -v n="$1" -v day=$(($(date +%s) / 86400)) \
    '$1 == n && ($2 ~ /^!+[^!*]/ || ($8 != "" && $8 <= day)) { print 1 }' /etc/shadow)
  if command -v chpasswd >/dev/null && command -v usermod >/dev/null; then
    out=$(printf '%s:%s\n' "$1" "$2" | chpasswd $4 2>&1) || { rc=$?; note "password of $1: $out (exit $rc)"; return; }
    [ -z "$locked" ] || run usermod -L -- "$1"
    return
  fi
  hash=$2
  [ "$4" ] || hash=$(printf '%s\n' "$2" | mkpasswd -m sha512 2>/dev/null)
  case $hash in '$'*) ;; *) rc=1; note "this host cannot make the hash of a password"; return ;; esac
  one_file "set	$1	hash	${locked:+!}$hash" "set	$1	changed	$(($(date +%s) / 86400))"
}
# one_file OPS…: changes the account files within a step of its own, with the home of a new account.
one_file() {
  for op; do printf '%s\t%s\n' "$id" "$op"; done >"$lock/ops"
  if locked && [ -s "$lock/done" ]; then
    IFS=: read -r out n out <"$lock/done"
    [ "$n" = 0 ] || { rc=$n; note "$out"; }
    if [ "$n" = 0 ] && [ -s "$lock/made" ]; then
      rm -f "$lock/words"
      homes_made
      [ ! -s "$lock/words" ] || note "$(sed 's/^[^:]*://' "$lock/words")"
    fi
  else
    rc=1
    note "the account files were not written: $(head -c 400 "$lock/said")"
  fi
}
# must_change NAME DAY: the day of its last change, 0 for never: then it is asked for at the next sign-in.
must_change() {
  [ $rc = 0 ] || return
  if command -v chage >/dev/null; then run chage -d "$2" -- "$1"; else one_file "set	$1	changed	$2"; fi
}
# reopen NAME: what shut the account is taken back; a lock alone is no password, and a day that is yet to come stays.
reopen() {
  day=$(($(date +%s) / 86400)) how= past=
  eval "$(awk -F: -v n="$1" -v day="$day" '$1 == n { if ($2 ~ /^!+[^!*]/) print "how=-U"; if ($8 != "" && $8 <= day) print "past=1" }' /etc/shadow)"
  if command -v usermod >/dev/null; then
    if [ "$past" ]; then run usermod $how -e '' -- "$1"; elif [ "$how" ]; then run usermod -U -- "$1"; fi
  else
    one_file "set	$1	open" "${past:+set	$1	expiry	}"
  fi
  aside "$1" .shut ''
}
# aside NAME FROM TO: where PAM is not asked keys open what is shut, so they are laid aside, and back.
aside() {
  [ "$nopam" ] && [ $rc = 0 ] || return 0
  out=$(as "$1" "cd && f=.ssh/authorized_keys && { [ ! -e \$f$2 ] || mv -f \$f$2 \$f$3; }" 2>&1) || { rc=1; note "its keys: $out"; }
}
# renumber NAME NUMBER: the account's number, and whose all its files are: usermod sees to its home, and leaves the rest.
renumber() {
  old=$(awk -F: -v n="$1" '$1 == n { print $3; exit }' /etc/passwd)
  if command -v usermod >/dev/null; then run usermod -u "$2" -- "$1"; else one_file "set	$1	uid	$2"; fi
  [ $rc = 0 ] && [ "$old" ] || return 0
  if shared "$1" "$old"; then note "files of number $old elsewhere were left, since another account has it"; return; fi
  n=$(mounts | while read -r m; do find "$m" -xdev -user "$old" -exec chown -h "$2" {} + -print 2>/dev/null; done | wc -l)
  [ "$n" = 0 ] || note "$n files that it owns were given to the new number"
}
# regroup NAME NUMBER: the group's number, and that of all files that are the group's. A program that runs as its group
# loses that bit, and is told of: to give it back by name could be turned against another file.
regroup() {
  old=$(awk -F: -v n="$1" '$1 == n { print $3; exit }' /etc/group)
  if command -v groupmod >/dev/null; then run groupmod -g "$2" -- "$1"; else one_file "regroup	$1	$2"; fi
  [ $rc = 0 ] && [ "$old" ] && [ "$old" != "$2" ] || return 0
  if awk -F: -v u="$old" '$3 == u { found = 1 } END { exit !found }' /etc/group; then
    note "files of group number $old were left, since another group has it"; return
  fi
  bit=$(mounts | while read -r m; do find "$m" -xdev -group "$old" -type f -perm -2010 2>/dev/null; done | head -n 8 | tr '\n' ' ')
  n=$(mounts | while read -r m; do find "$m" -xdev -group "$old" -exec chgrp -h "$2" {} + -print 2>/dev/null; done | wc -l)
  [ "$n" = 0 ] || note "$n files of the group were given to the new number"
  [ -z "$bit" ] || note "these no longer run as the group, and may have to be set so again (chmod g+s): $bit"
}
# create NAME NUMBER HOME OPTIONS…: with the home that was archived when an account of that name and number was removed.
create() {
  how=-m n=$1
  home_now=${3:-/home/$1}
  rm -f "$lock/words"
  clear_way "$home_now" || { rc=1; note "its home $home_now is not taken: $why"; return; }
  if [ -e "$home_now" ] && owner=$(stat -c %u -- "$home_now") && [ "$owner" != 0 ] && [ "$owner" != "$2" ]; then
    rc=1; note "its home $home_now is not taken: it belongs to number $owner"; return
  fi
  if [ "$2" ] && restore "" "$1" "$2" "${3:-/home/$1}"; then how=-M; fi
  shift 3
  run useradd $how "$@"
  [ $how = -m ] || { note "$(sed 's/^://' "$lock/words")"; [ $rc != 0 ] || chown -hR "$n:" -- "$(home_of "$n")" 2>/dev/null; }
}
# move_home NAME HOME: on a host without tools that do.
move_home() {
  old=$(home_of "$1")
  clear_way "$2" || { rc=1; note "its home $2 is not taken: $why"; return; }
  if [ -e "$2" ] || [ -L "$2" ]; then rc=1; note "$2 is there already"; return; fi
  if leaves "$1" "$old"; then mv -- "$old" "$2" 2>"$lock/said" || { rc=1; note "the home could not be moved: $(cat "$lock/said")"; return; }; fi
  one_file "set	$1	home	$2"
}
# mounts: the file systems of this host's own, where people can own files.
mounts() { awk '$3 ~ /^(ext[234]|xfs|btrfs|f2fs|jfs|reiserfs|zfs|tmpfs|overlay|ubifs|jffs2)$/ && !($2 in m) { m[$2]; gsub(/\\040/, " ", $2); print $2 }' /proc/mounts; }
