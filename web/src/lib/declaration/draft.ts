// The declaration's text while an operator writes it, kept in the browser until
// it is declared or forgotten, for nobody but them.
const place = (operator: string) => `declaration being written by ${operator}`;

export type Draft = { from: number; files: { name: string; text: string }[] };

export function keep(operator: string, draft: Draft) {
  try {
    localStorage.setItem(place(operator), JSON.stringify(draft));
  } catch {
    // a text too large for the browser's store lives as long as the page does
  }
}

export const leave = (operator: string) => localStorage.removeItem(place(operator));

/** takeUp returns what was left, if it can be read. */
export function takeUp(operator: string): Draft | undefined {
  try {
    const d = JSON.parse(localStorage.getItem(place(operator)) ?? 'null') as Draft | null;
    return d && d.from > 0 && Array.isArray(d.files) ? d : undefined;
  } catch {
    return undefined;
  }
}
