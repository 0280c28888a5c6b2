# Who is signed in over SSH: a line V:process:start:account:terminal:since:from for each, as the daemon's own
# processes show it. children: which process began which.
sessions() {
  set +f
  tree=$(cat /proc/[0-9]*/stat 2>/dev/null | awk '{ pid = $1; sub(/^.*\) /, ""); print $2 ":" pid }')
  above=" $(printf '%s\n' "$tree" | awk -F: -v p=$$ '{ up[$2] = $1 } END { while (p in up && n++ < 40) { p = up[p]; printf "%s ", p } }')"
  for d in /proc/[0-9]*; do
    { IFS= read -r line <"$d/cmdline" || [ -n "$line" ]; } 2>/dev/null || continue
    pid=${d##*/}
    case $above in *" $pid "*) continue ;; esac # ours
    case $line in
      "sshd: "*@* | "sshd-session: "*@*)
        who=${line#*: }
        owner=$(stat -c '%Y %U' "$d" 2>/dev/null) || continue
        [ "${owner#* }" = "${who%@*}" ] || continue # any process may call itself so; a session is its account's
        terminal=${who##*@} who=${who%@*} ;;
      */dropbear*) # it runs as root for each connection; whose that is its children tell
        owner= who=
        for c in $(printf '%s\n' "$tree" | sed -n "s/^$pid://p"); do
          case $(readlink "/proc/$c/exe" 2>/dev/null) in */dropbear) continue ;; esac
          owner=$(stat -c '%Y %U' "/proc/$c" 2>/dev/null) && who=${owner#* } && terminal= && break
        done
        [ "$who" ] || continue ;;
      *) continue ;;
    esac
    from=
    for c in $(printf '%s\n' "$tree" | sed -n "s/^$pid://p"); do
      from=$(tr '\0' '\n' <"/proc/$c/environ" 2>/dev/null | sed -n 's/^SSH_CONNECTION=\([^ ]*\).*/\1/p')
      [ -z "$from" ] || break
    done
    printf 'V:%s:%s:%s:%s:%s:%s\n' "$pid" "$(began "$pid")" "$who" "$terminal" "${owner%% *}" "$from"
  done
  set -f
}
# began PROCESS: when the kernel says it began: a process of that number that began at another time is another.
began() { awk '{ sub(/^.*\) /, ""); print $20 }' "/proc/$1/stat" 2>/dev/null; }
# finish NUMBER PROCESS START: ends one, gently first.
finish() {
  for signal in TERM KILL; do
    [ "$(began "$2")" = "$3" ] || { [ $signal = TERM ] && printf 'R:%s:0:gone\n' "$1" || printf 'R:%s:0:ended\n' "$1"; return; }
    case $(tr '\0' ' ' <"/proc/$2/cmdline") in "sshd: "*@* | "sshd-session: "*@* | */dropbear*) ;; *) printf 'R:%s:1:process %s is no session\n' "$1" "$2"; return ;; esac
    case " $PPID $(awk '{ print $4 }' "/proc/$PPID/stat" 2>/dev/null) " in *" $2 "*) printf 'R:%s:1:it is our own\n' "$1"; return ;; esac
    kill -$signal "$2" 2>/dev/null
    n=0
    while [ "$(began "$2")" = "$3" ] && [ $n -lt 20 ]; do sleep 0.1 2>/dev/null || sleep 1; n=$((n + 1)); done
  done
  [ "$(began "$2")" = "$3" ] && printf 'R:%s:1:process %s does not end\n' "$1" "$2" || printf 'R:%s:0:ended\n' "$1"
}
