/** The live figures of the service, second by second. */
import { api, ApiError, type LiveSample } from './api';

/** Seconds of history that are shown; the service keeps as many. */
export const SHOWN = 120;

/** A stream that is silent for this long counts as broken. */
const SILENCE_MS = 4_000;

export class LiveFeed {
  samples = $state.raw<LiveSample[]>([]);
  connected = $state(false);
  #source: EventSource | null = null;
  #silence: ReturnType<typeof setTimeout> | undefined;
  #signedOut: () => void;

  constructor(signedOut: () => void) {
    this.#signedOut = signedOut;
  }

  /** The latest sample. */
  get latest(): LiveSample | undefined {
    return this.samples.at(-1);
  }

  start() {
    if (this.#source) return;
    const source = new EventSource('/v1/live');
    this.#source = source;
    source.addEventListener('history', (event) => {
      this.samples = JSON.parse(event.data) as LiveSample[];
      this.#heard();
    });
    source.addEventListener('sample', (event) => {
      const sample = JSON.parse(event.data) as LiveSample;
      this.samples = [...this.samples.slice(1 - SHOWN), sample];
      this.#heard();
    });
    source.addEventListener('error', () => {
      this.connected = false;
      // The browser tries again by itself, unless it was refused.
      if (source.readyState === EventSource.CLOSED) void this.#refused();
    });
  }

  stop() {
    this.#source?.close();
    this.#source = null;
    clearTimeout(this.#silence);
    this.connected = false;
  }

  #heard() {
    this.connected = true;
    clearTimeout(this.#silence);
    this.#silence = setTimeout(() => (this.connected = false), SILENCE_MS);
  }

  async #refused() {
    this.stop();
    try {
      await api.session();
      setTimeout(() => this.start(), 1_000);
    } catch (error) {
      if (error instanceof ApiError) this.#signedOut();
      else setTimeout(() => this.start(), 2_000);
    }
  }
}
