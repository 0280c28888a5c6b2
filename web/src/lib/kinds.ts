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
