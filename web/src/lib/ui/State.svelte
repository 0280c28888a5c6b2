<!-- A state: a word first, a shape second, a colour last. -->
<script lang="ts">
  let { word, more = '' }: { word: string; more?: string } = $props();
  const looks: Record<string, [string, string]> = {
    good: ['●', 'text-teal bg-teal-wash'],
    bad: ['■', 'text-barn bg-barn-wash'],
    wait: ['▲', 'text-ochre bg-ochre-wash'],
    none: ['○', 'text-slate bg-slate-wash'],
  };
  const kinds: Record<string, string> = {
    'as declared': 'good',
    surveyed: 'good',
    done: 'good',
    complete: 'good',
    'already-so': 'good',
    proved: 'good',
    joins: 'good',
    'not set': 'bad',
    expired: 'bad',
    made: 'wait',
    unsure: 'wait',
    set: 'wait',
    missing: 'bad',
    unexpected: 'bad',
    different: 'bad',
    unmatched: 'bad',
    contested: 'bad',
    passwordless: 'bad',
    odd: 'bad',
    expiring: 'bad',
    'not declared': 'bad',
    failed: 'bad',
    moved: 'bad',
    incomplete: 'bad',
    stopped: 'bad',
    'key changed': 'bad',
    'login refused': 'bad',
    findings: 'bad',
    finding: 'bad',
    'open to question': 'bad',
    'not asked for': 'bad',
    refused: 'bad',
    'still open': 'bad',
    'not touched': 'bad',
    'shut, not proved': 'wait',
    drafted: 'wait',
    draft: 'wait',
    held: 'bad',
    approved: 'wait',
    running: 'wait',
    waiting: 'wait',
    'key not accepted': 'wait',
    found: 'wait',
  };
  const [shape, look] = $derived(looks[kinds[word] ?? 'none']);
</script>

<span class="inline-block rounded-[3px] px-2 py-px text-[13.5px] whitespace-nowrap {look}"
  ><span aria-hidden="true" class="mr-1.5">{shape}</span>{more ? more + ' ' : ''}{word}</span>
