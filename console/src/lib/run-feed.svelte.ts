/** A run of any kind, started here or elsewhere, followed over its live stream. */
import { messageOf } from './api';

interface Run {
  id: number;
  state: string;
  /** What is measured again and again: a stream has only what is new. */
  ticks?: unknown[];
  first_tick?: number;
}

/** What came over the stream, with the ticks that came before it. */
export function merged<R extends Run>(known: R | null, next: R): R {
  const first = next.first_tick ?? 0;
  if (!known?.ticks || !next.ticks || first === 0 || known.id !== next.id) return next;
  return { ...next, ticks: [...known.ticks.slice(0, first), ...next.ticks], first_tick: 0 };
}

export class RunFeed<R extends Run> {
  run = $state.raw<R | null>(null);
  error = $state('');
  starting = $state(false);
  #source: EventSource | null = null;
  #path: string;
  #begin: (what: string) => Promise<R>;

  /** `path` is where the runs are, `begin` starts one. */
  constructor(path: string, begin: (what: string) => Promise<R>) {
    this.#path = path;
    this.#begin = begin;
  }

  get running(): boolean {
    return this.starting || this.run?.state === 'running';
  }

  /** Starts a run and follows it. */
  async start(what: string, ended: () => void = () => undefined) {
    this.starting = true;
    this.error = '';
    try {
      this.follow(await this.#begin(what), ended);
    } catch (problem) {
      this.error = messageOf(problem);
    }
    this.starting = false;
  }

  /** Follows a run that is under way, or shows one that has ended. */
  follow(run: R, ended: () => void = () => undefined) {
    this.stopFollowing();
    this.run = run;
    if (run.state !== 'running') return;
    const source = new EventSource(`${this.#path}/${run.id}/live`);
    this.#source = source;
    source.addEventListener('progress', (event) => {
      this.run = merged(this.run, JSON.parse(event.data) as R);
    });
    source.addEventListener('end', (event) => {
      this.run = merged(this.run, JSON.parse(event.data) as R);
      this.stopFollowing();
      ended();
    });
    source.addEventListener('error', () => {
      if (source.readyState === EventSource.CLOSED) {
        this.error = 'The connection to the run was lost; reload the page to see how it ended.';
        this.stopFollowing();
      }
    });
  }

  /** Does something about the run, and shows what goes wrong with that. */
  async ask(what: (id: number) => Promise<unknown>) {
    if (!this.run) return;
    try {
      await what(this.run.id);
    } catch (problem) {
      this.error = messageOf(problem);
    }
  }

  stopFollowing() {
    this.#source?.close();
    this.#source = null;
  }
}
