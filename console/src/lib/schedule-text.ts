/** What schedules do and when, in words. */
import type { components } from './openapi';
import { time } from './format';

type Shapes = components['schemas'];

/** What a schedule does. */
export function actionText(action: Shapes['ScheduledAction']): string {
  if ('warm-plan' in action) return `run the warm plan ${action['warm-plan']}`;
  if ('load-profile' in action) return `run the load profile ${action['load-profile']}`;
  if ('check' in action) {
    return `check the values of ${action.check.namespace}${action.check.remove ? ', remove damaged ones' : ''}`;
  }
  const { namespace, tag, prefix } = action.invalidate;
  if (tag != null) return `remove entries of ${namespace} with the tag ${tag}`;
  return prefix == null ? `clear ${namespace}` : `remove ${prefix}… of ${namespace}`;
}

/** When a schedule runs. */
export function timingText(timing: Shapes['ScheduleTiming']): string {
  const parts = [timing.cron ?? (timing.every_seconds == null ? '' : `every ${time(timing.every_seconds)}`)];
  parts.push(`(${timing.time_zone ?? 'UTC'})`);
  if (timing.active) {
    parts.push(`${timing.active.days ?? 'every day'} ${timing.active.from}–${timing.active.until}`);
  }
  if (timing.jitter_seconds) parts.push(`up to ${time(timing.jitter_seconds)} later`);
  return parts.join(' ');
}

/** A moment in a time zone: `Fri 27 Nov 2026, 08:00 WET`. */
export function localTime(moment: string, zone: string | null | undefined): string {
  return new Intl.DateTimeFormat('en-GB', {
    timeZone: zone ?? 'UTC',
    weekday: 'short',
    day: 'numeric',
    month: 'short',
    hour: '2-digit',
    minute: '2-digit',
    timeZoneName: 'short',
  }).format(new Date(moment));
}
