/** A load run as it goes on. */
import { api, words, type LoadRun } from './api';

export class LoadRunFeed {
  run = $state.raw<LoadRun | null>(null);
  error = $state('');
  starting = $state(false);
  #source: EventSource | null = null;

  get running(): boolean {
    return this.starting || this.run?.state === 'running';
  }

  /** Starts a run and follows it. */
  async start(profile: string, ended: () => void) {
    this.starting = true;
    this.error = '';
    try {
      this.follow(await api.startLoadRun(profile), ended);
    } catch (problem) {
      this.error = words(problem);
    }
    this.starting = false;
  }

  /** Follows a run that is under way, or shows one that has ended. */
  follow(run: LoadRun, ended: () => void) {
    this.stopFollowing();
    this.run = run;
    if (run.state !== 'running') return;
    const source = new EventSource(`/v1/load-runs/${run.id}/live`);
    this.#source = source;
    source.addEventListener('progress', (event) => {
      this.run = JSON.parse(event.data) as LoadRun;
    });
    source.addEventListener('end', (event) => {
      this.run = JSON.parse(event.data) as LoadRun;
      this.stopFollowing();
      ended();
    });
    source.addEventListener('error', () => {
      if (source.readyState === EventSource.CLOSED) {
        this.error = 'The run can no longer be followed; its result is in the list once it has ended.';
        this.stopFollowing();
      }
    });
  }

  async stop() {
    if (!this.run) return;
    try {
      await api.stopLoadRun(this.run.id);
    } catch (problem) {
      this.error = words(problem);
    }
  }

  stopFollowing() {
    this.#source?.close();
    this.#source = null;
  }
}
