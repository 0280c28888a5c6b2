# One writer on this host at a time: a batch whose connection broke may still be running.
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
tell() { read_all 1 "$lock/names" || { echo "X:the accounts cannot be read, or the disk is full"; exit 0; }; }
s() { id=$1 say= rc=0; }
e() { printf 'R:%s:%s:%s\n' "$id" "$rc" "$say"; }
note() { say="$say${say:+; }$(printf %s "$1" | tr '\n' ' ')"; }
# run COMMAND…: its complaints become the step's words.
run() {
  if "$@" </dev/null >/dev/null 2>"$lock/said"; then rc=0; else rc=$?; fi # a file, since a substitution costs a fork for each step
  [ ! -s "$lock/said" ] || note "$(cat "$lock/said")"
  [ $rc = 0 ] || note "${1##*/} ended with $rc"
}
# keys NAME TEXT: written as the account itself, so that a link in its home leads nowhere it could not go alone.
keys() {
  [ $rc = 0 ] || return
  out=$(printf '%s' "$2" | as "$1" 'umask 077; f=.ssh/authorized_keys; cd && mkdir -p .ssh && cat >$f.new && mv -f $f.new $f' 2>&1) ||
    { rc=$?; note "authorized keys of $1: $out (exit $rc)"; }
}
# as NAME COMMAND: what is run as an account. su asks whether it may sign in, which one that is shut or whose password
# must be changed may not.
as() {
  if command -v setpriv >/dev/null && gid=$(id -g -- "$1"); then
    HOME=$(awk -F: -v n="$1" '$1 == n { print $6; exit }' /etc/passwd) setpriv --reuid="$1" --regid="$gid" --init-groups -- /bin/sh -c "$2"
  else
    su -s /bin/sh -c "$2" -- "$1"
  fi
}
# password NAME VALUE NEW HOW: HOW are options of chpasswd; over standard input, so that it stands in no process list. An account that is shut, or
# whose password is locked, stays so, since a new one would open it; one that is made now is neither.
password() {
  [ $rc = 0 ] || return
  [ "$3" ] && locked= || locked=$(awk -F: -v n="$1" -v day=$(($(date +%s) / 86400)) \
    '$1 == n && ($2 ~ /^!+[^!*]/ || ($8 != "" && $8 <= day)) { print 1 }' /etc/shadow)
  out=$(printf '%s:%s\n' "$1" "$2" | chpasswd $4 2>&1) || { rc=$?; note "password of $1: $out (exit $rc)"; return; }
  [ -z "$locked" ] || run usermod -L -- "$1"
}
# must_change NAME DAY: the day of its last change, 0 for never: then it is asked for at the next sign-in.
must_change() {
  [ $rc = 0 ] || return
  run chage -d "$2" -- "$1"
}
# reopen NAME: what shut the account is taken back; a lock alone is no password.
reopen() {
  if [ "$(awk -F: -v n="$1" '$1 == n && $2 ~ /^!+[^!*]/ { print 1 }' /etc/shadow)" ]; then run usermod -U -e '' -- "$1"; else run usermod -e '' -- "$1"; fi
}
# leave_home NAME HOW: finds the home that goes with an account, and archives it if it is to be. Nothing goes that
# is not the account's own folder and nobody else's. A home that is gone is well.
leave_home() {
  home=
  h=$(awk -F: -v n="$1" '$1 == n { print $6; exit }' /etc/passwd)
  [ -d "$h" ] || return 0
  if ! leaves "$1" "$h"; then rc=1; note "the home $h is not a folder of $1 alone, and was left; the account too"; return 1; fi
  home=$h
  [ "$2" = archive ] || return 0
  to=/var/backups/homes f= n= day=$(($(date +%s) / 86400))
  mkdir -p -m 700 $to || { rc=1; note "the home $h could not be archived"; return 1; }
  while f=$to/$1-$day$n.tar.gz; [ -e "$f" ]; do n=-$((${n#-} + 1)); done # an earlier one of that day is somebody's, too
  { tar -C "${h%/*}/" -czf "$f.new" -- "${h##*/}" && chmod 600 "$f.new" && mv "$f.new" "$f"; } 2>"$lock/said" ||
    { rc=1; rm -f "$f.new"; note "the home $h could not be archived: $(cat "$lock/said")"; return 1; }
  note "its home is in $f"
}
# clear_home: when its account is gone, the home goes too.
clear_home() {
  [ $rc = 0 ] && [ -n "$home" ] || return 0
  rm -rf --one-file-system -- "$home" 2>"$lock/said" || { rc=1; note "its home $home could not be removed: $(cat "$lock/said")"; }
}
# leaves NAME HOME: the folder is the account's own, at least two deep, and neither holds nor is another's home; and
# nobody but root can put another in the place of one it stands in.
leaves() {
  case $2 in /*/*) ;; *) return 1 ;; esac
  case $2 in */ | *//* | */./* | */../* | */. | */..) return 1 ;; esac
  [ ! -L "$2" ] && [ "$(stat -c %u -- "$2")" = "$(awk -F: -v n="$1" '$1 == n { print $3; exit }' /etc/passwd)" ] || return 1
  p=$(readlink -f -- "${2%/*}") || return 1
  while [ -n "$p" ]; do
    set -- "$1" "$2" "$(stat -c '%u %a' -- "$p")"
    case $3 in "0 "*[2367]? | "0 "*[2367]) case $3 in "0 1"???) ;; *) return 1 ;; esac ;; "0 "*) ;; *) return 1 ;; esac
    p=${p%/*}
  done
  awk -F: -v n="$1" -v h="$2" '$1 != n && ($6 == h || index($6, h "/") == 1) { bad = 1 } END { exit bad }' /etc/passwd
}
