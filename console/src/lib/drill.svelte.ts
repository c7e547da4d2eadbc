/** A drill as it goes on. */
import { api, words, type DrillRun } from './api';

export class DrillFeed {
  run = $state.raw<DrillRun | null>(null);
  error = $state('');
  starting = $state(false);
  #source: EventSource | null = null;

  get running(): boolean {
    return this.starting || this.run?.state === 'running';
  }

  /** Starts a drill and follows it. */
  async start(drill: string) {
    this.starting = true;
    this.error = '';
    try {
      this.follow(await api.startDrill(drill));
    } catch (problem) {
      this.error = words(problem);
    }
    this.starting = false;
  }

  /** Follows a drill that is under way, or shows one that has ended. */
  follow(run: DrillRun) {
    this.stop();
    this.run = run;
    if (run.state !== 'running') return;
    const source = new EventSource(`/v1/drill-runs/${run.id}/live`);
    this.#source = source;
    source.addEventListener('progress', (event) => {
      this.run = JSON.parse(event.data) as DrillRun;
    });
    source.addEventListener('end', (event) => {
      this.run = JSON.parse(event.data) as DrillRun;
      this.stop();
    });
    source.addEventListener('error', () => {
      if (source.readyState === EventSource.CLOSED) {
        this.error = 'The drill can no longer be followed.';
        this.stop();
      }
    });
  }

  stop() {
    this.#source?.close();
    this.#source = null;
  }
}
