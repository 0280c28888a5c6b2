# Hen Roost on a host: what both a survey and a batch of changes begin with.
LC_ALL=C PATH=/usr/sbin:/usr/bin:/sbin:/bin
export LC_ALL PATH
umask 022
set -f
nl='
'
day=$(($(date +%s) / 86400))

# state: a line for each account and group. A:name:uid:group:disabled:home:shell:full name
# and G:name:gid:members. Hashes stay on the host: all that is told is whether
# the password can be used. With a file of names, only those. A whole survey
# also tells of keys (K:name:key), of who stands in sudoers (D:name), of the
# range of people's numbers (L:key:number), all in one reading by one awk.
state() {
  only=$1 names=${2:-/dev/null}
  [ $# -lt 2 ] && shift $# || shift 2
  awk -F: -v day="$day" -v only="$only" '
    at == "n" { want[$0]; next }
    at == "k" {
      f = substr($0, length($1) + 2); c = 0
      while ((getline l < f) > 0 && c++ < 200) print "K:" $1 ":" substr(l, 1, 4096)
      close(f); next
    }
    at == "l" { if (split($0, w, /[ \t]+/) >= 2 && (w[1] == "UID_MIN" || w[1] == "UID_MAX")) print "L:" w[1] ":" w[2]; next }
    at == "d" { if ($0 !~ /^[ \t]*(#|@|Defaults)/ && index($0, "=") && split($0, w, /[ \t]+/) >= 2) print "D:" (w[1] == "" ? w[2] : w[1]); next }
    at == "s" { shut[$1] = ($2 ~ /^[!*]/); real[$1] = ($2 !~ /^[!*]*$/); past[$1] = ($8 != "" && $8 <= day); next }
    at == "g" { group[$3] = $1; if (!only || ("g" $1) in want) print "G:" $1 ":" $3 ":" $4; next }
    only && !(("a" $1) in want) { next }
    {
      off = "no"
      if (past[$1] && shut[$1]) off = "yes"; else if (past[$1] || (shut[$1] && real[$1])) off = "partly"
      name = $5; sub(/,+$/, "", name)
      print "A:" $1 ":" $3 ":" (($4 in group) ? group[$4] : $4) ":" off ":" $6 ":" $7 ":" name
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
