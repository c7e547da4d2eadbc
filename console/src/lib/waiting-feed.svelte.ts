/** Who waits for what, as the service streams it. */
import type { Waiting } from './api';

export class WaitingFeed {
  now = $state.raw<Waiting | null>(null);
  broken = $state(false);
  #source: EventSource | null = null;

  start() {
    const source = new EventSource('/v1/waiting/live');
    this.#source = source;
    source.addEventListener('waiting', (event) => {
      this.now = JSON.parse(event.data) as Waiting;
      this.broken = false;
    });
    source.addEventListener('error', () => (this.broken = true));
  }

  stop() {
    this.#source?.close();
    this.#source = null;
  }
}
