// The one border to the server: every request goes through here, typed by the
// OpenAPI document (schema.gen.ts).
import createClient from 'openapi-fetch';
import type { components, paths } from './schema.gen';

export type Schemas = components['schemas'];
export const api = createClient<paths>({ baseUrl: '/', credentials: 'same-origin' });

/** Refused is why something was not done, in the service's own words. */
export class Refused extends Error {
  constructor(
    readonly status: number,
    readonly code: string,
    words: string,
    readonly faults: Schemas['Fault'][] = [],
    readonly clashes: Schemas['Clash'][] = [],
  ) {
    super(words);
  }
}

const signedOut = new EventTarget();
export const onSignedOut = (heard: () => void) => signedOut.addEventListener('signed-out', heard);

type Answer<T> = { data?: T; error?: unknown; response: Response };

/** ask awaits an answer and returns its data, or throws Refused. */
export async function ask<T>(answer: Promise<Answer<T>>): Promise<T> {
  let got: Answer<T>;
  try {
    got = await answer;
  } catch {
    throw new Refused(0, 'no-answer', 'Hen Roost does not answer. Is the service running?');
  }
  if (got.response.ok) return got.data as T;
  const problem = (got.error ?? {}) as Partial<Schemas['Problem']>;
  if (got.response.status === 401) signedOut.dispatchEvent(new Event('signed-out'));
  throw new Refused(
    got.response.status,
    problem.code ?? '',
    problem.detail ?? `The service answered ${got.response.status}.`,
    problem.faults ?? [],
    problem.clashes ?? [],
  );
}
