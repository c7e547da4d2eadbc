/** A run of any kind, started here or elsewhere, followed over its live stream. */
import { messageOf } from './api';

interface Run {
  id: number;
  state: string;
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
      this.run = JSON.parse(event.data) as R;
    });
    source.addEventListener('end', (event) => {
      this.run = JSON.parse(event.data) as R;
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
  async ask(what: (id: number) => Promise<void>) {
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
