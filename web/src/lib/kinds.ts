// What the kinds of target hold, as their schemas say it: asked for once.
import { api, ask, type Schemas } from './api/client';

let asked: Promise<Schemas['Schema'][]> | undefined;

export const kinds = () => (asked ??= ask(api.GET('/api/kinds', {})));

/** calling says what attributes are called for people. */
export function calling(list: Schemas['Schema'][]): (attribute: string) => string {
  const words = new Map(
    list
      .flatMap((s) => s.kinds ?? [])
      .flatMap((k) => k.attributes ?? [])
      .map((a) => [a.name, a.called ?? a.name]),
  );
  return (attribute) => words.get(attribute) ?? attribute;
}

/** What targets of a kind can, beside holding accounts, as far as a page asks for it. */
export interface Can {
  sessions: boolean; // tell who is signed in
  homes: boolean; // have homes of people
  elevation: boolean; // have superusers who become so by what they were given
  difference: boolean; // say themselves what would change
  actions?: string[]; // examples of actions that can be asked about; left out where none can
  attributes?: string[]; // of accounts; left out until they are known
  parts: number; // of an account's name
  joint: string; // between them
}

export const unknown: Can = { sessions: false, homes: false, elevation: false, difference: false, parts: 1, joint: '' };

/** can says what targets of a kind can. */
export async function can(kind: string): Promise<Can> {
  const schema = (await kinds()).find((s) => s.kind === kind);
  if (!schema) return unknown;
  const holds = (name: string) => schema.kinds?.find((k) => k.kind === name);
  const account = holds('account');
  return {
    sessions: !!holds('session'),
    homes: !!holds('home'),
    elevation: !!holds('elevation'),
    difference: !!schema.differs,
    actions: schema.permits ? (schema.permits.examples ?? []) : undefined,
    attributes: account && (account.attributes ?? []).map((a) => a.name),
    parts: account?.name?.length ?? 1,
    joint: account?.joint ?? '',
  };
}
