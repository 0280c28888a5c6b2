<!-- Finds a person or a target from anywhere: / to begin, arrows to choose, Enter to go, Shift and Enter to cut a person off. -->
<script lang="ts">
  import { api, ask } from '../api/client';
  import { router } from '../router.svelte';
  const id = $props.id();
  let text = $state('');
  let at = $state(0);
  let hits = $state.raw<{ href: string; name: string; about: string }[]>([]);
  let box: HTMLInputElement;

  async function find() {
    const t = text.trim();
    if (!t) return void (hits = []);
    const [users, targets] = await Promise.all([
      ask(api.GET('/api/users', { params: { query: { text: t, size: 6 } } })).catch(() => ({ items: [] })),
      ask(api.GET('/api/targets', { params: { query: { text: t, size: 4 } } })).catch(() => ({ items: [] })),
    ]);
    if (t !== text.trim()) return;
    at = 0;
    hits = [
      ...users.items.map((u) => ({ href: '/users/' + encodeURIComponent(u.id), name: u.name, about: u.id })),
      ...targets.items.map((x) => ({ href: '/targets/' + encodeURIComponent(x.name), name: x.name, about: x.kind })),
    ];
  }
  function go(href: string) {
    text = '';
    hits = [];
    box.blur();
    router.go(href);
  }
  function key(e: KeyboardEvent) {
    if (e.key === 'ArrowDown') at = Math.min(at + 1, hits.length - 1);
    else if (e.key === 'ArrowUp') at = Math.max(at - 1, 0);
    else if (e.key === 'Enter' && hits[at]) go(hits[at].href + (e.shiftKey && hits[at].href.startsWith('/users/') ? '?cut' : ''));
    else if (e.key === 'Escape') {
      text = '';
      hits = [];
      box.blur();
    } else return;
    e.preventDefault();
  }
  function slash(e: KeyboardEvent) {
    const t = e.target as HTMLElement;
    if (e.key !== '/' || e.ctrlKey || e.metaKey || /^(INPUT|TEXTAREA|SELECT)$/.test(t.tagName)) return;
    e.preventDefault();
    box.focus();
  }
</script>

<svelte:window onkeydown={slash} />
<div class="relative">
  <input
    bind:this={box}
    bind:value={text}
    oninput={find}
    onkeydown={key}
    role="combobox"
    aria-label="Find a person or a target"
    aria-expanded={hits.length > 0}
    aria-controls={id}
    aria-activedescendant={hits.length ? `${id}-${at}` : undefined}
    placeholder="Find a person, a target…   /"
    class="border-rule bg-sheet placeholder:text-soft w-60 rounded border px-3 py-1 text-[15px]" />
  {#if hits.length}
    <ul {id} role="listbox" class="border-rule bg-sheet absolute right-0 z-20 mt-1 w-80 border shadow-lg">
      {#each hits as h, i (h.href)}
        <li
          id="{id}-{i}"
          role="option"
          aria-selected={i === at}
          class="flex justify-between gap-3 px-3 py-1.5 {i === at ? 'bg-slate-wash' : ''}">
          <a
            href={h.href}
            class="w-full no-underline"
            tabindex="-1"
            onclick={(e) => {
              e.preventDefault();
              go(h.href);
            }}><span dir="auto">{h.name}</span> <span class="name text-soft">{h.about}</span></a>
        </li>
      {/each}
      {#if hits[at]?.href.startsWith('/users/')}<li role="none" class="text-soft border-rule border-t px-3 py-1 text-xs">
          Enter: their page · Shift and Enter: cut them off
        </li>{/if}
    </ul>
  {/if}
</div>
