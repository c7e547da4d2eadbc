/** Numbers for people, each with its unit. */
const whole = new Intl.NumberFormat('en-GB', { maximumFractionDigits: 0 });

export const NONE = '–';

export function count(n: number): string {
  return whole.format(n);
}

export function rate(perSecond: number): string {
  return perSecond >= 100 ? `${whole.format(perSecond)}/s` : `${perSecond.toFixed(1)}/s`;
}

export function milliseconds(ms: number | null | undefined): string {
  if (ms === null || ms === undefined) return NONE;
  if (ms >= 1000) return `${whole.format(ms)} ms`;
  if (ms >= 100) return `${ms.toFixed(0)} ms`;
  if (ms >= 10) return `${ms.toFixed(1)} ms`;
  if (ms >= 1) return `${ms.toFixed(2)} ms`;
  return `${ms.toFixed(3)} ms`;
}

export function share(ratio: number | null | undefined): string {
  return ratio === null || ratio === undefined ? NONE : `${(ratio * 100).toFixed(1)} %`;
}

export function times(ratio: number | null | undefined): string {
  if (ratio === null || ratio === undefined) return NONE;
  return ratio >= 20 ? `${whole.format(ratio)}×` : `${ratio.toFixed(1)}×`;
}

export function bytes(n: number): string {
  const units = ['B', 'KiB', 'MiB', 'GiB', 'TiB'];
  let value = n;
  let unit = 0;
  while (value >= 1024 && unit < units.length - 1) {
    value /= 1024;
    unit += 1;
  }
  return `${unit === 0 ? value : value.toFixed(1)} ${units[unit]}`;
}

/** The longest max-age that there is, ten years: as good as no limit. */
const UNLIMITED = 3650 * 86_400;

export function time(seconds: number): string {
  const s = Math.floor(seconds);
  if (s >= UNLIMITED) return 'unlimited';
  if (s < 60) return `${s} s`;
  if (s < 3600) return `${Math.floor(s / 60)} min ${s % 60} s`;
  if (s < 86400) return `${Math.floor(s / 3600)} h ${Math.floor((s / 60) % 60)} min`;
  return `${Math.floor(s / 86400)} d ${Math.floor((s / 3600) % 24)} h`;
}

/** A day, such as 2026-11-26. */
export function day(moment: string): string {
  return moment.slice(0, 10);
}

/** A moment to the second, in the time zone of the browser. */
export function moment(text: string | null | undefined): string {
  if (!text) return NONE;
  const at = new Date(text);
  return `${at.toLocaleDateString('en-CA')} ${at.toLocaleTimeString('en-GB')}`;
}
