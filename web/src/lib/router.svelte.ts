// Addresses of pages, in the browser's own history.

function createRouter() {
  let path = $state(location.pathname);
  let query = $state(location.search);
  const read = () => {
    path = location.pathname;
    query = location.search;
  };
  addEventListener('popstate', read);
  return {
    get path() {
      return path;
    },
    get query() {
      return new URLSearchParams(query);
    },
    /** part returns the n-th part of the path, decoded: /users/marit.fell has 'users' and 'marit.fell'. */
    part(n: number) {
      return decodeURIComponent(path.split('/')[n + 1] ?? '');
    },
    go(to: string) {
      history.pushState(null, '', to);
      read();
      scrollTo(0, 0);
    },
    /** keep changes the query in place, for filters. */
    keep(values: Record<string, string>) {
      const q = new URLSearchParams(query);
      for (const [k, v] of Object.entries(values)) v ? q.set(k, v) : q.delete(k);
      const s = q.toString();
      history.replaceState(null, '', path + (s ? '?' + s : ''));
      read();
    },
  };
}

export const router = createRouter();

/** link lets a plain anchor move within the console. */
export function link(node: HTMLAnchorElement) {
  const follow = (e: MouseEvent) => {
    if (e.ctrlKey || e.metaKey || e.shiftKey || e.button !== 0) return;
    e.preventDefault();
    router.go(node.getAttribute('href')!);
  };
  node.addEventListener('click', follow);
  return { destroy: () => node.removeEventListener('click', follow) };
}
