# One writer on this host at a time: a batch whose connection broke may still be running.
lock=/run/hen-roost.lock
[ -d /run ] || lock=/tmp/hen-roost.lock
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

# What was read before the batch lies in a file, an answer for each question in the order of the steps, and is
# read along with them: looking a name up costs the same however many accounts the host has.
# acct, grp, member: the next answer; false when the account, the group or the membership was not there.
next() { IFS= read -r line <&3 || line=-; }
acct() {
  next
  case "$line" in A:*) ;; T:*) twice passwd; return 1 ;; *) return 1 ;; esac
  line=${line#A:}; line=${line#*:}
  IFS=:; set -- $line; unset IFS
  number=$1 group=$2 disabled=$3 home=$4 shell=$5
  fullname=${line#"$1:$2:$3:$4:$5:"}
}
grp() {
  next
  case "$line" in G:*) ;; T:*) twice group; return 1 ;; *) return 1 ;; esac
  line=${line#G:}; line=${line#*:}
  number=${line%%:*}
}
member() { next; [ "$line" = I ]; }
twice() { odd="its name stands twice in /etc/$1; mend that on the host first"; }
s() { id=$1 say= rc=0 did=so odd=; }
e() { printf 'R:%s:%s:%s:%s\n' "$id" "$did" "$rc" "$say"; }
note() { say="$say${say:+; }$(printf %s "$1" | tr '\n' ' ')"; }
# was ATTRIBUTE NOW BEFORE AFTER: so when it is as wanted, moved when it is neither.
was() {
  if [ "$2" = "$4" ]; then return; fi
  if [ "$2" = "$3" ]; then [ $did = moved ] || did=ready; return; fi
  did=moved; note "$1 is '$2'"
}
gone() { did=moved; note "${odd:-$1 is not there}"; }
ready() { [ $did = ready ] && did=acted; }
# run COMMAND…: its complaints become the step's words.
run() {
  if "$@" </dev/null >/dev/null 2>"$lock/said"; then rc=0; else rc=$?; fi # a file, since a substitution costs a fork for each step
  [ ! -s "$lock/said" ] || note "$(cat "$lock/said")"
  [ $rc = 0 ] || note "${1##*/} ended with $rc"
}
# held HOME: the keys in a home as a survey tells them, in order; nothing where they cannot be read without following a link.
held() {
  f=$1/.ssh/authorized_keys
  if [ ! -f "$f" ] || [ -L "$f" ] || [ -L "$1/.ssh" ]; then return; fi
  sed -e 's/^[[:space:]]*//' -e 's/[[:space:]]*$//' -e '/^#/d' -e '/^$/d' "$f" | sort
}
# keys NAME TEXT: written as the account itself, so that a link in its home leads nowhere it could not go alone.
keys() {
  out=$(printf '%s' "$2" | su -s /bin/sh -c 'umask 077; cd && mkdir -p .ssh && cat >.ssh/authorized_keys.new && mv -f .ssh/authorized_keys.new .ssh/authorized_keys' -- "$1" 2>&1) ||
    { rc=$?; note "authorized keys of $1: $out (exit $rc)"; }
}
