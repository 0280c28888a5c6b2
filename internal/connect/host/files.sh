# Account files written once for many changes: passwd, shadow, group and gshadow, and subuid and subgid where the system
# gives such numbers. It runs while the system's own lock is held (see locked in apply.sh). What is to be done stands in
# $lock/ops, a line each of fields that tabs part; what became of it goes into $lock/done, NUMBER:STATUS:WORDS.
#
# Each file is written whole beside the old one, flushed, and put in its place, in an order in which a power cut at any
# moment leaves nobody with more than before: an account is in passwd last, and what is in the others alone is nobody's.
lock=$1
set -f
umask 077
at=
for f in group gshadow shadow passwd login.defs subuid subgid default/useradd; do
  [ ! -r "/etc/$f" ] || at="$at at=$f /etc/$f"
done
: >"$lock/done" && : >"$lock/made" && awk -v dir="$lock" '
  function put(line, k, v, most,   a, n, j, out) {
    n = split(line, a, ":"); if (n < most) n = most
    a[k] = v; out = a[1]
    for (j = 2; j <= n; j++) out = out ":" a[j]
    return out
  }
  function field(line, k,   a) { split(line, a, ":"); return a[k] }
  function fail(words) { if (!(step in bad)) bad[step] = words }
  function load(g,   n, a, j) { # the members of a group, so that many who join cost one each
    if (g in loaded) return
    loaded[g]; n = split(field(gline[gi[g]], 4), a, ",")
    for (j = 1; j <= n; j++) if (a[j] != "" && !((g, a[j]) in has)) { has[g, a[j]]; member[g, ++many[g]] = a[j] }
  }
  function list(g,   j, out) {
    for (j = 1; j <= many[g]; j++) if ((g, member[g, j]) in has) out = out (out == "" ? "" : ",") member[g, j]
    return out
  }
  function free(taken, low, high, top,   n) { # the next number, or the first that is left
    if (top < high) return (top < low ? low : top + 1)
    for (n = low; n <= high; n++) if (!((taken, n) in used)) return n
    return ""
  }
  function newgroup(name, id) {
    if (name in gi) { fail("a group of that name is there"); return "" }
    if (id == "") id = free("g", glow, ghigh, gtop)
    if (id !~ /^[0-9]+$/) { fail("no group number is left between " glow " and " ghigh); return "" }
    if (("g", id) in used) { fail("group number " id " is taken by " groupof[id]); return "" }
    gi[name] = ++gn
    gline[gn] = name ":x:" id ":"; used["g", id]; groupof[id] = name
    if (id <= ghigh && id > gtop) gtop = id
    if (gshadow) { if (!(name in si)) si[name] = ++sn; sline[si[name]] = name ":!::" } # one that a power cut left behind
    dirty["group"]; dirty["gshadow"]
    return id
  }
  function add(name, id, group, home, shell, full,   gid) {
    if (name in pi) { fail("an account of that name is there"); return }
    if (id == "") id = free("u", ulow, uhigh, utop)
    if (id !~ /^[0-9]+$/) { fail("no number is left between " ulow " and " uhigh); return }
    if (("u", id) in used) { fail("number " id " is taken by " userof[id]); return }
    if (group != "") {
      if (group in gi) gid = field(gline[gi[group]], 3); else { fail("there is no group " group); return }
    } else if (name in gi) gid = field(gline[gi[name]], 3)
    else gid = newgroup(name, (("g", id) in used) ? "" : id)
    if (gid == "") return
    if (home == "") home = homes "/" name
    pi[name] = ++pn
    pline[pn] = name ":x:" id ":" gid ":" full ":" home ":" shell
    used["u", id]; userof[id] = name
    if (id <= uhigh && id > utop) utop = id
    if (!(name in hi)) hi[name] = ++hn
    hline[hi[name]] = name ":!:" day ":" least ":" most ":" warning ":" inactive ":" expire ":"
    dirty["passwd"]; dirty["shadow"]
    if (subs["uid"] && !(("subuid", name) in subhas) && id >= ulow && id <= uhigh) { subtop["uid"] += subs["uid"]; sub_("subuid", name ":" (subtop["uid"] - subs["uid"]) ":" subs["uid"]) }
    if (subs["gid"] && !(("subgid", name) in subhas) && id >= ulow && id <= uhigh) { subtop["gid"] += subs["gid"]; sub_("subgid", name ":" (subtop["gid"] - subs["gid"]) ":" subs["gid"]) }
    made[name] = step; print step ":" name ":" id ":" gid ":" home > (dir "/made")
  }
  function sub_(f, line) { subline[f, ++subn[f]] = line; dirty[f] }
  function join(g, name) {
    if (!(g in gi)) { fail("there is no group " g); return }
    if (!(name in pi)) { fail("there is no account " name); return }
    load(g)
    if (!((g, name) in has)) { has[g, name]; member[g, ++many[g]] = name; touched[g]; dirty["group"]; dirty["gshadow"] }
  }
  function leave(g, name) {
    if (!(g in gi)) return
    load(g)
    if ((g, name) in has) { delete has[g, name]; touched[g]; dirty["group"]; dirty["gshadow"] }
  }
  function del(name,   j, g, id, k) {
    if (!(name in pi)) return
    id = field(pline[pi[name]], 4); gone["p", pi[name]]; delete pi[name]
    if (name in hi) { gone["h", hi[name]]; delete hi[name] }
    for (j = 1; j <= gn; j++) {
      g = field(gline[j], 1)
      if (index("," field(gline[j], 4) ",", "," name ",") || (g, name) in has) leave(g, name)
    }
    dirty["passwd"]; dirty["shadow"]
    if (!(name in gi) || field(gline[gi[name]], 3) != id) return
    load(name)
    if (list(name) != "") return
    for (k in pi) if (field(pline[pi[k]], 4) == id) return
    ungroup(name)
  }
  function ungroup(g,   id, k) {
    if (!(g in gi)) return
    id = field(gline[gi[g]], 3)
    for (k in pi) if (field(pline[pi[k]], 4) == id) { fail("it is the primary group of " k); return }
    gone["g", gi[g]]; delete gi[g]
    if (g in si) { gone["s", si[g]]; delete si[g] }
    dirty["group"]; dirty["gshadow"]
  }
  function callgroup(old, name,   id) {
    if (!(old in gi)) { fail("there is no group " old); return }
    if (name in gi) { fail("a group of that name is there"); return }
    load(old); gline[gi[old]] = put(put(gline[gi[old]], 4, list(old), 4), 1, name, 4)
    id = field(gline[gi[old]], 3); groupof[id] = name; gi[name] = gi[old]; delete gi[old]
    if (old in si) { sline[si[old]] = put(sline[si[old]], 1, name, 4); si[name] = si[old]; delete si[old] }
    dirty["group"]; dirty["gshadow"]
  }
  function set(name, what, v,   gid, hash) {
    if (!(name in pi)) { fail("there is no account " name); return }
    if (what in column) {
      if (what == "gid") { if (v in gi) v = field(gline[gi[v]], 3); else { fail("there is no group " v); return } }
      if (what == "uid") {
        if (("u", v) in used) { fail("number " v " is taken by " userof[v]); return }
        used["u", v]; userof[v] = name
      }
      pline[pi[name]] = put(pline[pi[name]], column[what], v, 7); dirty["passwd"]; return
    }
    if (!(name in hi)) { hi[name] = ++hn; hline[hn] = name ":!:::::::" }
    hash = field(hline[hi[name]], 2)
    if (what == "lock") { if (hash !~ /^[!*]/) v = "!" hash; else v = hash; what = "hash" }
    if (what == "open") { v = hash; if (hash ~ /^!+[^!*]/) sub(/^!+/, "", v); what = "hash" }
    hline[hi[name]] = put(hline[hi[name]], days[what], v, 9); dirty["shadow"]
    # a hash that stands in passwd itself would count in place of the one in shadow
    if (field(pline[pi[name]], 2) != "x") { pline[pi[name]] = put(pline[pi[name]], 2, "x", 7); dirty["passwd"] }
  }
  BEGIN {
    srand(); day = int(srand() / 86400)
    ulow = glow = 1000; uhigh = ghigh = 60000; homes = "/home"; least = 0; most = 99999; warning = 7
    column["uid"] = 3; column["gid"] = 4; column["gecos"] = 5; column["home"] = 6; column["shell"] = 7
    days["hash"] = 2; days["changed"] = 3; days["least"] = 4; days["most"] = 5; days["warning"] = 6; days["inactive"] = 7; days["expiry"] = 8
    shell = "/bin/sh"; mode = "0700"; skel = "/etc/skel"; subs["uid"] = subs["gid"] = 65536; submin["uid"] = submin["gid"] = 100000
  }
  at == "group" {
    gline[++gn] = $0
    if (split($0, f, ":") > 2 && !(f[1] in gi)) { gi[f[1]] = gn; used["g", f[3]]; if (!(f[3] in groupof)) groupof[f[3]] = f[1] }
    next
  }
  at == "gshadow" { gshadow = 1; sline[++sn] = $0; split($0, f, ":"); if (!(f[1] in si)) si[f[1]] = sn; next }
  at == "shadow" { hline[++hn] = $0; split($0, f, ":"); if (!(f[1] in hi)) hi[f[1]] = hn; next }
  at == "passwd" {
    pline[++pn] = $0
    if (split($0, f, ":") > 6 && !(f[1] in pi)) { pi[f[1]] = pn; used["u", f[3]]; if (!(f[3] in userof)) userof[f[3]] = f[1] }
    next
  }
  at == "login.defs" {
    if (/^[ \t]*#/ || split($0, f, /[ \t]+/) < 2) next
    if (f[1] == "UID_MIN") ulow = f[2] + 0; if (f[1] == "UID_MAX") uhigh = f[2] + 0
    if (f[1] == "GID_MIN") glow = f[2] + 0; if (f[1] == "GID_MAX") ghigh = f[2] + 0
    if (f[1] == "PASS_MIN_DAYS") least = f[2]; if (f[1] == "PASS_MAX_DAYS") most = f[2]; if (f[1] == "PASS_WARN_AGE") warning = f[2]
    if (f[1] == "HOME_MODE") mode = f[2]
    if (f[1] == "SUB_UID_COUNT") subs["uid"] = f[2] + 0; if (f[1] == "SUB_GID_COUNT") subs["gid"] = f[2] + 0
    if (f[1] == "SUB_UID_MIN") submin["uid"] = f[2] + 0; if (f[1] == "SUB_GID_MIN") submin["gid"] = f[2] + 0
    next
  }
  at == "default/useradd" {
    if (/^[ \t]*#/ || split($0, f, "=") < 2) next
    if (f[1] == "SHELL") shell = f[2]; if (f[1] == "HOME") homes = f[2]; if (f[1] == "SKEL") skel = f[2]
    if (f[1] == "INACTIVE" && f[2] >= 0) inactive = f[2]; if (f[1] == "EXPIRE" && f[2] ~ /^[0-9]+$/) expire = f[2]
    next
  }
  at ~ /^sub/ { have[at]; split($0, f, ":"); subhas[at, f[1]]; k = substr(at, 4); if (f[2] + f[3] > subtop[k]) subtop[k] = f[2] + f[3]; sub_(at, $0); next }
  {
    if (!began) {
      began = 1
      for (k in dirty) delete dirty[k]
      for (j = 1; j <= pn; j++) { n = field(pline[j], 3) + 0; if (n >= ulow && n <= uhigh && n > utop) utop = n }
      for (j = 1; j <= gn; j++) { n = field(gline[j], 3) + 0; if (n >= glow && n <= ghigh && n > gtop) gtop = n }
      for (k in subs) { if (!(("sub" k) in have)) subs[k] = 0; if (subtop[k] < submin[k]) subtop[k] = submin[k] }
    }
    split($0, f, "\t"); step = f[1]; op = f[2]
    if (!(step in seen)) { seen[step]; order[++steps] = step }
    if (step in bad) next
    if (op == "add") add(f[3], f[4], f[5], f[6], f[7] == "" ? shell : f[7], f[8])
    else if (op == "set") set(f[3], f[4], f[5])
    else if (op == "del") del(f[3])
    else if (op == "group") newgroup(f[3], f[4])
    else if (op == "ungroup") ungroup(f[3])
    else if (op == "callgroup") callgroup(f[3], f[4])
    else if (op == "regroup") {
      if (!(f[3] in gi)) fail("there is no group " f[3])
      else if (("g", f[4]) in used) fail("group number " f[4] " is taken by " groupof[f[4]])
      else { n = field(gline[gi[f[3]]], 3); gline[gi[f[3]]] = put(gline[gi[f[3]]], 3, f[4], 4); used["g", f[4]]; groupof[f[4]] = f[3]; dirty["group"]
        for (k in pi) if (field(pline[pi[k]], 4) == n) { pline[pi[k]] = put(pline[pi[k]], 4, f[4], 7); dirty["passwd"] } }
    }
    else if (op == "join") join(f[3], f[4])
    else if (op == "leave") leave(f[3], f[4])
    else if (op == "admins") {
      if (!(f[3] in gi)) fail("there is no group " f[3])
      else if (!gshadow) fail("this host keeps no administrators of groups")
      else { if (!(f[3] in si)) { si[f[3]] = ++sn; sline[sn] = f[3] ":!::" }; sline[si[f[3]]] = put(sline[si[f[3]]], 3, f[4], 4); dirty["gshadow"] }
    }
    else if (op == "keys") print step "\t" f[3] "\t" f[4] > (dir "/keys")
  }
  END {
    for (g in touched) if (g in gi) {
      all = list(g); gline[gi[g]] = put(gline[gi[g]], 4, all, 4)
      if (g in si) sline[si[g]] = put(sline[si[g]], 4, all, 4)
    }
    if (gshadow && "gshadow" in dirty) { for (j = 1; j <= sn; j++) if (!(("s", j) in gone)) print sline[j] > (dir "/gshadow"); close(dir "/gshadow") }
    if ("group" in dirty) { for (j = 1; j <= gn; j++) if (!(("g", j) in gone)) print gline[j] > (dir "/group"); close(dir "/group") }
    if ("shadow" in dirty) { for (j = 1; j <= hn; j++) if (!(("h", j) in gone)) print hline[j] > (dir "/shadow"); close(dir "/shadow") }
    if ("passwd" in dirty) { for (j = 1; j <= pn; j++) if (!(("p", j) in gone)) print pline[j] > (dir "/passwd"); close(dir "/passwd") }
    for (k in have) if (k in dirty) { for (j = 1; j <= subn[k]; j++) print subline[k, j] > (dir "/" k); close(dir "/" k) }
    print mode > (dir "/mode"); print skel > (dir "/skel")
    for (j = 1; j <= steps; j++) print order[j] ":" ((order[j] in bad) ? "1:" bad[order[j]] : "0:") > (dir "/done")
  }' $at at=ops "$lock/ops" || { echo "the account files cannot be read, or the disk is full" >&2; exit 1; }
new=
for f in subgid subuid gshadow group shadow passwd; do
  [ -f "$lock/$f" ] || continue
  if { [ ! -e /etc/$f ] || { cp -a /etc/$f /etc/$f- && cp -a /etc/$f /etc/$f+; }; } && cat "$lock/$f" >/etc/$f+ &&
    [ "$(wc -c </etc/$f+)" = "$(wc -c <"$lock/$f")" ]; then
    new="$new /etc/$f+"
  else
    echo "/etc/$f cannot be written: is the disk full?" >&2
    for f in $new /etc/$f+; do [ "$2" = files ] || rm -f "$f"; done
    exit 1
  fi
done
[ -z "$new" ] || sync $new 2>/dev/null || sync
for f in $new; do mv -f "$f" "${f%+}" || exit 1; done
[ -z "$new" ] || sync /etc 2>/dev/null || sync
