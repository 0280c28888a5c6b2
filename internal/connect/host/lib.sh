# Hen Roost on a host: what both a survey and a batch of changes begin with.
LC_ALL=C PATH=/usr/sbin:/usr/bin:/sbin:/bin
export LC_ALL PATH
umask 022
set -f
nl='
'
day=$(($(date +%s) / 86400))

# state: a line for each account and group, as the system itself sees them: of two of one name the first.
# A:name:uid:group:disabled:home:shell:full name and G:name:gid:members. T:name:line is a name that stands
# again, B:file:line:text a line that is no account or group, N:name an account that asks nobody for a password.
# Hashes stay on the host: all that is told is whether the password can be used. A whole survey also tells of
# keys (K:name:key), of the lines of sudoers (D:line), of the range of people's numbers (L:key:number), all in
# one reading by one awk. With a file of questions (aNAME, gNAME, mGROUP:MEMBER) it answers those alone, a line
# each in their order: A:…, G:…, I (is in it), O (is not), T:… or - for nothing.
state() {
  only=$1 names=${2:-/dev/null}
  [ $# -lt 2 ] && shift $# || shift 2
  awk -F: -v day="$day" -v only="$only" '
    function tell(key, line) { if (!only) print line; else if (key in want) got[key] = line }
    at == "n" { want[$0]; asked[++asks] = $0; if (substr($0, 1, 1) == "m") want["g" substr($1, 2)]; next }
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
    /^[ \t]*(#|$)/ { next }
    at == "s" {
      if ($1 in shut) next
      shut[$1] = ($2 ~ /^[!*]/); real[$1] = ($2 !~ /^[!*]*$/); none[$1] = ($2 == ""); past[$1] = ($8 != "" && $8 <= day); next
    }
    at == "g" {
      if (NF < 3 || $3 !~ /^[0-9]+$/) { if (!only) print "B:group:" FNR ":" substr($0, 1, 200); next }
      if ($1 in gid) { tell("g" $1, "T:" $1 ":" FNR ":group"); next }
      gid[$1] = $3; if (!($3 in group)) group[$3] = $1
      tell("g" $1, "G:" $1 ":" $3 ":" $4); next
    }
    NF < 7 || $3 !~ /^[0-9]+$/ || $1 == "" { if (!only) print "B:passwd:" FNR ":" substr($0, 1, 200); next }
    $1 in uid { tell("a" $1, "T:" $1 ":" FNR ":passwd"); next }
    {
      uid[$1] = $3
      if (only && !(("a" $1) in want)) next
      off = "no"
      if (past[$1] && shut[$1]) off = "yes"; else if (past[$1] || (shut[$1] && real[$1])) off = "partly"
      name = $5; sub(/,+$/, "", name)
      tell("a" $1, "A:" $1 ":" $3 ":" (($4 in group) ? group[$4] : $4) ":" off ":" $6 ":" $7 ":" name)
      if (!only && !past[$1] && ($2 == "" || ($2 == "x" && none[$1]))) print "N:" $1
    }
    END {
      for (i = 1; i <= asks; i++) {
        q = asked[i]
        if (substr(q, 1, 1) != "m") { print (q in got) ? got[q] : "-"; continue }
        cut = index(q, ":"); line = got["g" substr(q, 2, cut - 2)]
        if (substr(line, 1, 2) == "G:") { sub(/^G:[^:]*:[^:]*:/, "", line); print index("," line ",", "," substr(q, cut + 1) ",") ? "I" : "O" } else print "-"
      }
    }' at=n "$names" at=s /etc/shadow at=g /etc/group at=p /etc/passwd "$@"
}

# listing: which of the homes hold keys that can be read without following a link.
listing() {
  while IFS=: read -r n _ _ _ _ h _; do
    f=$h/.ssh/authorized_keys
    if [ -f "$f" ] && [ ! -L "$f" ] && [ ! -L "$h/.ssh" ]; then printf '%s:%s\n' "$n" "$f"; fi
  done </etc/passwd
}

survey() {
  defs=/etc/login.defs
  [ -r $defs ] || defs=/dev/null
  set +f
  rules=
  for f in /etc/sudoers /etc/sudoers.d/*; do
    [ ! -r "$f" ] || rules="$rules $f" # a name with a space is none that sudo reads
  done
  set -f
  listing | state '' /dev/null at=k - at=l $defs at=d $rules || return 1
  echo "Z:"
}
