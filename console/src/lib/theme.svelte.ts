/** Light or dark: the system's choice until somebody makes one. */
type Name = 'chart-day' | 'chart-night';

const KEY = 'verax-theme';
const dark = window.matchMedia('(prefers-color-scheme: dark)');

class Theme {
  chosen = $state<Name | null>((localStorage.getItem(KEY) as Name | null) ?? null);
  #system = $state<Name>(dark.matches ? 'chart-night' : 'chart-day');

  constructor() {
    dark.addEventListener('change', () => {
      this.#system = dark.matches ? 'chart-night' : 'chart-day';
      this.#apply();
    });
    this.#apply();
  }

  get name(): Name {
    return this.chosen ?? this.#system;
  }

  toggle() {
    this.chosen = this.name === 'chart-day' ? 'chart-night' : 'chart-day';
    localStorage.setItem(KEY, this.chosen);
    this.#apply();
  }

  #apply() {
    document.documentElement.dataset.theme = this.name;
  }
}

export const theme = new Theme();
