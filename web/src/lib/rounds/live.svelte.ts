// A round that may be running, as a value that keeps itself up to date.
import { createSubscriber } from 'svelte/reactivity';
import { api, ask, type Schemas } from '../api/client';

export function createRound(id: number) {
  let round = $state.raw<Schemas['Round']>();
  let error = $state('');
  const read = () =>
    ask(api.GET('/api/rounds/{id}', { params: { path: { id } } })).then(
      (r) => (round = r),
      (e: Error) => (error = e.message),
    );
  const subscribe = createSubscriber(() => {
    const events = new EventSource(`/api/rounds/${id}/events`);
    events.addEventListener('round', (e) => {
      round = JSON.parse(e.data);
      if (round!.state !== 'running') events.close();
    });
    return () => events.close();
  });
  read();
  return {
    get current() {
      if (round?.state === 'running') subscribe();
      return round;
    },
    get error() {
      return error;
    },
    set(r: Schemas['Round']) {
      round = r;
    },
  };
}
