/** Bar is a pool of seats as it is drawn. */
export type Bar = { name: string; seats: number; taken: number; beside: number };

/** bars are the parts of each, in turn. */
export const bars = [
  { label: 'as declared', colour: 'teal', of: (x: Bar) => x.taken - x.beside },
  { label: 'beside', colour: 'ochre', of: (x: Bar) => x.beside },
  { label: 'spare', colour: 'rule', of: (x: Bar) => Math.max(x.seats - x.taken, 0) },
];
