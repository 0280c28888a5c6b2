# homes_of: of the names on standard input those that are homes (hPATH); homes_all: of all that stand where people's homes
# do. A line home:uid:bytes:last change:in use:account:folder for each. Every file in them is looked at, once.
homes_of() {
  busy=$(busy)
  sed -n 's/^h\//\//p' | while read -r h; do
    [ ! -d "$h" ] || [ -L "$h" ] || found "${h%/*}" "${h##*/}"
  done
}
homes_all() {
  busy=$(busy)
  awk -F: -v low=1000 '$3 >= low && $3 < 60000 && $6 ~ /^\/[^\/]+\// { sub(/\/[^\/]*$/, "", $6); if (!($6 in p)) { p[$6]; print $6 } }
    END { if (!("/home" in p)) print "/home" }' /etc/passwd |
    while read -r p; do [ ! -d "$p" ] || [ -L "$p" ] || found "$p" ''; done
}
# busy: the numbers of those who run anything now.
busy() { set +f; stat -c %u /proc/[0-9]* 2>/dev/null | sort -u | tr '\n' ' '; set -f; }
# found PARENT NAME: the homes in a folder, or one of them. What has a line break in its name is passed over: it could say
# anything of somebody else's home.
found() {
  deep=1
  [ -z "$2" ] || deep=0
  if find / -maxdepth 0 -printf '' >/dev/null 2>&1; then
    find "$1${2:+/$2}" -mindepth $deep -xdev ! -path "*$nl*" -printf '%y %U %T@ %b %p\n' 2>/dev/null
  else
    find "$1${2:+/$2}" -xdev ! -path "*$nl*" -exec stat -c '%F %u %Y %b %n' {} + 2>/dev/null | sed 's/^regular empty file/f/; s/^regular file/f/; s/^directory/d/; s/^symbolic link/l/'
  fi | parent=$1 awk -v busy=" $busy" '
    BEGIN { p = ENVIRON["parent"] "/"; while ((getline l < "/etc/passwd") > 0) { split(l, f, ":"); if (!(f[6] in of)) of[f[6]] = f[1] } }
    $1 !~ /^[a-z]$/ || NF < 5 { next }
    {
      path = $0; sub(/^[^ ]+ [^ ]+ [^ ]+ [^ ]+ /, "", path)
      if (substr(path, 1, length(p)) != p) next
      rest = substr(path, length(p) + 1); n = index(rest, "/"); name = n ? substr(rest, 1, n - 1) : rest
      size[name] += $4 * 512
      if (!n && $1 == "d") { uid[name] = $2; if (!(name in last)) last[name] = $3 }
      if (n && $1 == "f") { if (!(name in file) || $3 > file[name]) file[name] = $3 }
    }
    END { for (name in uid) if (name != "lost+found")
      printf "home:%s:%.0f:%.0f:%s:%s:%s\n", uid[name], size[name], (name in file && file[name] > last[name]) ? file[name] : last[name], index(busy, " " uid[name] " ") ? 1 : 0, of[p name], p name }'
}
