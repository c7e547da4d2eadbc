import { onMount } from 'svelte';
import { messageOf } from './api';

/** What the service answers to a question that is asked again and again while a component is shown. */
export class Repeated<T> {
  /** The latest answer. */
  value = $state.raw<T | null>(null);
  /** Why there is no newer one. */
  problem = $state('');
  readonly #ask: () => Promise<T>;

  /** For the initialization of a component; `every` is in milliseconds. */
  constructor(ask: () => Promise<T>, every: number) {
    this.#ask = ask;
    onMount(() => {
      void this.load();
      const again = setInterval(this.load, every);
      return () => clearInterval(again);
    });
  }

  /** Asks now. */
  load = async () => {
    try {
      [this.value, this.problem] = [await this.#ask(), ''];
    } catch (error) {
      this.problem = messageOf(error);
    }
  };
}
