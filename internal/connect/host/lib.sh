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
# lines of sudoers (D:line), the range of people's numbers (L:key:number), and what the host is (S:what:value),
# all in one reading by one awk: on a small host every further process is a tenth of the time.
# With a file of names (aNAME, gNAME, mGROUP:MEMBER) it tells of those alone: of a group not its members, but
# I:group:member of each that was named and is in it; and of an account the groups that it is in, J:name:group,
# and their numbers, H:group:gid.
state() {
  only=$1 names=$2
  shift 2
  awk -F: -v only="$only" '
    BEGIN { # what srand returns the second time is the clock (POSIX); it is told before all else, since reading takes time
      srand(); now = srand(); day = int(now / 86400)
      if (!only) { print "S:clock:" now; fflush() }
    }
    function wants(key) { return !only || key in want }
    at == "n" { want[$0]; want[$1]; next } # of mGROUP:MEMBER that the group is asked too
    at == "k" {
      f = substr($0, length($1) + 2); c = 0
      while ((getline l < f) > 0 && c++ < 200) print "K:" $1 ":" substr(l, 1, 4096)
      close(f); next
    }
    at == "l" { if (split($0, w, /[ \t]+/) >= 2 && (w[1] == "UID_MIN" || w[1] == "UID_MAX")) print "L:" w[1] ":" w[2]; next }
    at == "d" {
      rule = rule $0
      if (sub(/\\$/, " ", rule)) next
      if (rule !~ /^[ \t]*($|Defaults)/) print "D:" substr(rule, 1, 8192)
      rule = ""; next
    }
    at == "H" { print "S:host-name:" $0; next }
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
      shut[$1] = ($2 ~ /^[!*]/); real[$1] = ($2 !~ /^[!*]*$/); none[$1] = ($2 == ""); must[$1] = ($3 == "0"); past[$1] = ($8 != "" && $8 <= day); next
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
      if (past[$1] && shut[$1]) off = "yes"; else if (past[$1] || (shut[$1] && real[$1])) off = "partly"
      name = $5; sub(/,+$/, "", name)
      print "A:" $1 ":" $3 ":" (($4 in group) ? group[$4] : $4) ":" off ":" $6 ":" $7 ":" name
      if (only && $4 in group) print "H:" group[$4] ":" $4
      if (must[$1]) print "W:" $1
      if (!past[$1] && ($2 == "" || ($2 == "x" && none[$1]))) print "N:" $1
    }' at=n "$names" at=s /etc/shadow at=g /etc/group at=p /etc/passwd "$@"
}

# listing: which of the homes, NAME:HOME on standard input, hold keys that can be read without following a link.
listing() {
  while IFS=: read -r n h; do
    f=$h/.ssh/authorized_keys
    if [ -f "$f" ] && [ ! -L "$f" ] && [ ! -L "$h/.ssh" ]; then printf '%s:%s\n' "$n" "$f"; fi
  done
}

# homes NAMES: NAME:HOME of those accounts, or of all.
homes() { awk -F: 'FILENAME != "/etc/passwd" { if (sub(/^a/, "")) want[$0]; next } all || $1 in want { print $1 ":" $6 }' all="$1" "$2" /etc/passwd; }

# read_all ONLY NAMES: all of it, or of what is named.
read_all() {
  defs=/etc/login.defs
  [ -r $defs ] || defs=/dev/null
  set +f
  rules= facts=
  for f in /etc/sudoers /etc/sudoers.d/*; do
    [ ! -r "$f" ] || rules="$rules $f" # a name with a space is none that sudo reads
  done
  set -f
  whole=1
  [ -z "$1" ] || whole=
  if [ "$whole" ]; then
    for f in H:/proc/sys/kernel/hostname T:/proc/sys/kernel/ostype R:/proc/sys/kernel/osrelease O:/etc/os-release B:/proc/stat \
      F:/proc/net/fib_trie I:/proc/net/if_inet6; do
      [ ! -r "${f#*:}" ] || facts="$facts at=${f%%:*} ${f#*:}"
    done
  fi
  homes "$whole" "$2" | listing | state "$1" "$2" at=k - at=l $defs at=d $rules $facts
}
survey() { read_all '' /dev/null && echo "Z:"; }
