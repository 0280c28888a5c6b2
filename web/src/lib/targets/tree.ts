// What stands within something else.
type Standing = { name: string; attributes: Record<string, string[]> };

/** tree puts what stands within another behind that, and says how deep each stands. */
export function tree<T extends Standing>(items: T[]): { o: T; deep: number }[] {
  const here = new Set(items.map((o) => o.name));
  const within = new Map<string, T[]>();
  for (const o of items) {
    const named = o.attributes.within?.[0] ?? '';
    const above = here.has(named) ? named : '';
    within.set(above, [...(within.get(above) ?? []), o]);
  }
  const lay = (above: string, deep: number): { o: T; deep: number }[] => {
    const list = within.get(above) ?? [];
    within.delete(above); // a ring ends here
    return list.flatMap((o) => [{ o, deep }, ...lay(o.name, deep + 1)]);
  };
  return [...lay('', 0), ...[...within.keys()].flatMap((above) => lay(above, 0))];
}
