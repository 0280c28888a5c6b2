# gate NUMBER ACCOUNT: whether the host would let an account in, as PAM's account check sees it: no password is asked for.
gate() {
  said=$(su -s /bin/sh -c true -- "$2" </dev/null 2>&1)
  printf 'P:%s:%s:%s\n' "$1" "$?" "$(printf '%s' "$said" | head -n 1 | tr : ' ' | cut -c1-200)"
}
