# elevation HOW ACCOUNT COMMAND RULE: gives or takes, in a file of our own beside sudo's others. It is written beside the
# old one under a name that sudo passes over, looked at by sudo's own checker, put in its place, and looked at again
# with all the others; then sudo itself is asked whether the account may. If anything of that fails the old one is back.
elevation() {
  command -v visudo >/dev/null && command -v sudo >/dev/null || { rc=1; note "this host has no sudo, so nobody can be given anything by it"; return; }
  mkdir -p -m 750 "${own%/*}"
  {
    if [ -f $own ]; then
      n="$2" c="$3" awk '{ rest = $0; if (sub(/^[^ ]+ ALL=\((ALL:ALL|ALL)\) (NOPASSWD: )?/, "", rest) && $1 == ENVIRON["n"] && rest == ENVIRON["c"]) next; print }' $own
    else
      echo '# Kept by Hen Roost: who may do what as superuser. Changes by hand are found, and put right.'
    fi
    [ "$1" = take ] || printf '%s\n' "$4"
  } >$own.new 2>"$lock/said" && chmod 440 $own.new || { rc=1; note "$own cannot be written: $(head -c 200 "$lock/said")"; rm -f $own.new; return; }
  visudo -cf $own.new >"$lock/said" 2>&1 || { rc=1; note "sudo's own checker refuses it: $(head -c 300 "$lock/said")"; rm -f $own.new; return; }
  broken=
  visudo -c >"$lock/before" 2>&1 || broken=1
  rm -f $own.old
  [ ! -f $own ] || cp -p $own $own.old
  mv -f $own.new $own
  sync $own 2>/dev/null
  if [ -z "$broken" ] && ! visudo -c >"$lock/said" 2>&1; then
    rc=1
    note "with it sudo's files would not pass their own check, so it was taken back: $(grep -v 'parsed OK' "$lock/said" | head -c 300)"
  elif [ "$1" = give ] && ! sudo -n -l -U "$2" $5 >"$lock/said" 2>&1; then
    rc=1
    note "sudo does not give it, so it was taken back: $(head -c 300 "$lock/said")"
  fi
  [ -z "$broken" ] || note "sudo's files have a mistake that is not ours: $(grep -v 'parsed OK' "$lock/before" | head -n 1 | head -c 200)"
  if [ $rc != 0 ]; then if [ -f $own.old ]; then mv -f $own.old $own; else rm -f $own; fi; fi
  rm -f $own.old
}
