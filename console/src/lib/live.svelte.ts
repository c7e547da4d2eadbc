/** What the service does, second by second, as it streams it. */
import { api, ApiError, type LiveSample } from './api';

/** Seconds of history that are shown; the service keeps as many. */
export const SHOWN = 120;

/** A stream that brings nothing for this long is shown as broken. */
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

/** The sum of a figure over a sample's namespaces. */
export function total(
  sample: LiveSample,
  figure: (n: LiveSample['namespaces'][number]) => number,
): number {
  const others = sample.others ? figure(sample.others) : 0;
  return sample.namespaces.reduce((sum, n) => sum + figure(n), others);
}

/** Reads of a sample that were hits, 0 to 1; null without reads. */
export function hitRatio(sample: LiveSample): number | null {
  const reads = total(sample, (n) => n.reads);
  return reads > 0 ? total(sample, (n) => n.hits) / reads : null;
}
