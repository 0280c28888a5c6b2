// The declaration's text while somebody writes it, kept in the browser until it
// is declared or forgotten.
const place = 'declaration being written';

export type Draft = { from: number; files: { name: string; text: string }[] };

export function keep(draft: Draft) {
  try {
    localStorage.setItem(place, JSON.stringify(draft));
  } catch {
    // a text too large for the browser's store lives as long as the page does
  }
}

export const leave = () => localStorage.removeItem(place);

/** takeUp returns what was left, if it can be read. */
export function takeUp(): Draft | undefined {
  try {
    const d = JSON.parse(localStorage.getItem(place) ?? 'null') as Draft | null;
    return d && d.from > 0 && Array.isArray(d.files) ? d : undefined;
  } catch {
    return undefined;
  }
}
