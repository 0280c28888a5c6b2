// Small words: plurals, days, changes.

export const count = (n: number, one: string, many: string) => `${n} ${n === 1 ? one : many}`;

/** when says a time the way a log does: the clock today, the day before that. */
export function when(iso?: string): string {
  if (!iso) return '';
  const t = new Date(iso);
  const clock = t.toISOString().slice(11, 16);
  return t.toISOString().slice(0, 10) === new Date().toISOString().slice(0, 10) ? clock : `${t.toISOString().slice(0, 10)} ${clock}`;
}

/** tally says outcomes, the worst first. */
export function tally(outcomes: Record<string, number>): string {
  const order = ['failed', 'out-of-reach', 'moved', 'not-tried', 'running', 'waiting', 'done', 'already-so', 'undone'];
  const parts = order.filter((o) => outcomes[o]).map((o) => `${outcomes[o]} ${o}`);
  return parts.join(', ') || 'nothing to do';
}

/** afresh asks again whenever mark changes. */
export const afresh = <T>(_mark: unknown, ask: () => T): T => ask();

/** bytes is a size as people read it. */
export function bytes(n: number) {
  const units = ['B', 'kB', 'MB', 'GB', 'TB'];
  let at = 0;
  for (; n >= 1000 && at < units.length - 1; at++) n /= 1000;
  return `${at && n < 10 ? n.toFixed(1) : n.toFixed(0)} ${units[at]}`;
}
