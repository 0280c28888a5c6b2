# gate NUMBER ACCOUNT: whether the host would let an account in, as PAM's account check sees it: no password is
# asked for. su says why not at once, and then takes its time; so several are asked at once, and none is waited for
# that has said why (it holds nothing of ours open). told prints what was found out of those asked since it was
# called last: the number, the exit status where it has ended, and the words.
gates=/run/hen-roost.gate.$$ all=
[ -d /run ] || gates=/tmp/hen-roost.gate.$$
umask 077
mkdir "$gates" || exit 1
trap 'rm -rf "$gates"' EXIT
blind=
[ -z "$nopam" ] || blind=1 # then su lets everybody in for root, and asks nothing
gate() {
  all="$all $1"
  [ -z "$blind" ] || { echo 'its su does not ask whether an account is shut' >"$gates/$1"; echo - >"$gates/$1.end"; return; }
  { su -s /bin/sh -c true -- "$2" </dev/null >"$gates/$1" 2>&1; echo $? >"$gates/$1.end"; } >/dev/null 2>&1 &
}
told() {
  n=0 left=$all
  while [ -n "$left" ] && [ $n -lt 200 ]; do
    rest=
    for i in $left; do
      [ -s "$gates/$i.end" ] || grep -qi 'expired\|locked\|not exist\|no passwd\|unknown' "$gates/$i" 2>/dev/null || rest="$rest $i"
    done
    left=$rest n=$((n + 1))
    [ -z "$left" ] || sleep 0.05 2>/dev/null || sleep 1
  done
  for i in $all; do
    printf 'P:%s:%s:%s\n' "$i" "$(cat "$gates/$i.end" 2>/dev/null)" "$(head -n 1 "$gates/$i" | tr : ' ' | cut -c1-200)"
  done
  all=
}
