<script lang="ts">
  import { api, messageOf, type ScheduleSpec, type ScheduleTiming, type WarmPlan } from '../lib/api';
  import * as quantities from '../lib/quantities';
  import { actionText, localTime } from '../lib/schedule-text';
  import Dialog from './Dialog.svelte';
  import Field from './Field.svelte';

  let { onchanged }: { onchanged: () => void } = $props();

  let isNew = $state(true);
  let tenant = $state('');
  let name = $state('');
  let tag = '';
  let action = $state.raw<ScheduleSpec['action'] | null>(null);
  let isPaused = false;
  let plans = $state.raw<WarmPlan[]>([]);
  let plan = $state('');
  let texts = $state<Record<string, string>>({});
  let runMissed = $state(false);
  let next = $state.raw<string[]>([]);
  let problem = $state('');
  let dialog: Dialog;

  function show(spec: Partial<ScheduleSpec>) {
    [problem, next] = ['', []];
    const text = (seconds: number | null | undefined) => (seconds ? quantities.timeText(seconds) : '');
    texts = {
      name,
      note: spec.note ?? '',
      cron: spec.cron ?? '',
      every: text(spec.every_seconds),
      zone: spec.time_zone ?? Intl.DateTimeFormat().resolvedOptions().timeZone,
      days: spec.active?.days ?? '',
      from: spec.active?.from ?? '',
      until: spec.active?.until ?? '',
      jitter: text(spec.jitter_seconds),
    };
    runMissed = spec.missed === 'run-once';
    isPaused = spec.paused ?? false;
    dialog.open();
    void preview();
  }

  /** Shows a new schedule, which runs one of some plans. */
  export function create(of: WarmPlan[]) {
    [plans, plan, isNew, tag, name, action] = [of, `${of[0]?.tenant}/${of[0]?.name}`, true, '', '', null];
    show({ cron: '0 7 * * *' });
  }

  /** Shows a schedule, as it is now. */
  export async function edit(of: string, schedule: string) {
    const { value, tag: version } = await api.schedule(of, schedule);
    [tenant, name, isNew, tag, action] = [of, schedule, false, version, value.action];
    show(value);
  }

  function timing(): ScheduleTiming {
    const seconds = (text: string) => (text.trim() === '' ? null : quantities.time(text));
    const given = (part: string) => (texts[part] ?? '').trim();
    const every = seconds(given('every'));
    const jitter = seconds(given('jitter'));
    const hasHours = given('from') !== '' || given('until') !== '' || given('days') !== '';
    return {
      ...(given('cron') ? { cron: given('cron') } : {}),
      ...(every === null ? {} : { every_seconds: every }),
      ...(given('zone') ? { time_zone: given('zone') } : {}),
      ...(hasHours
        ? {
            active: {
              ...(given('days') ? { days: given('days') } : {}),
              from: given('from') || '00:00',
              until: given('until') || '24:00',
            },
          }
        : {}),
      ...(jitter === null ? {} : { jitter_seconds: jitter }),
      missed: runMissed ? 'run-once' : 'skip',
    };
  }

  /** Shows the next times of what is entered. */
  async function preview() {
    try {
      [next, problem] = [await api.previewSchedule(timing()), ''];
    } catch (error) {
      [next, problem] = [[], messageOf(error)];
    }
  }

  async function keep() {
    const [of = '', chosen = ''] = isNew ? plan.split('/') : [tenant, ''];
    const called = isNew ? (texts.name ?? '').trim() : name;
    if (called === '') throw new quantities.InvalidField('Name the schedule, such as weekday-mornings');
    const spec: ScheduleSpec = {
      action: action ?? { 'warm-plan': chosen },
      note: texts.note ?? '',
      paused: isPaused,
      ...timing(),
    };
    await api.putSchedule(of, called, spec, tag);
    onchanged();
  }

  const parts = [
    { part: 'cron', label: 'Cron expression', hint: 'Minute, hour, day of month, month, day of week' },
    { part: 'every', label: 'Or every', hint: 'Such as 15m, instead of a cron expression' },
    { part: 'zone', label: 'Time zone', hint: 'An IANA name, such as Europe/Lisbon' },
    { part: 'days', label: 'Only on', hint: 'Such as mon-fri; every day when empty' },
    { part: 'from', label: 'Only from', hint: 'Such as 08:00' },
    { part: 'until', label: 'Until', hint: 'Such as 18:00, included' },
    { part: 'jitter', label: 'Start up to this much later', hint: 'At random, such as 2m' },
    { part: 'note', label: 'What it is for', hint: '' },
  ];
</script>

<Dialog title={isNew ? 'New schedule' : `Schedule ${tenant}/${name}`} action="Keep the schedule" wide bind:this={dialog} onaction={keep}>
  <div class="grid gap-3 sm:grid-cols-2" onchange={preview}>
    {#if isNew}
      <label class="flex flex-col text-sm font-medium">Runs the warm plan
        <select class="select select-sm w-full" bind:value={plan}>
          {#each plans as one (`${one.tenant}/${one.name}`)}<option>{one.tenant}/{one.name}</option>{/each}
        </select>
      </label>
      <Field label="Name" bind:value={() => texts.name ?? '', (t) => (texts.name = t)} placeholder="weekday-mornings" required />
    {:else if action}
      <p class="sm:col-span-2">It does this: {actionText(action)}.</p>
    {/if}
    {#each parts as { part, label, hint } (part)}
      <Field {label} {hint} bind:value={() => texts[part] ?? '', (t) => (texts[part] = t)} />
    {/each}
    <label class="flex items-center gap-2 text-sm font-medium sm:col-span-2">
      <input type="checkbox" class="checkbox checkbox-sm" bind:checked={runMissed} />
      Run once for times at which Verax was not running, instead of skipping them
    </label>
  </div>
  <div class="mt-3 text-sm" aria-live="polite">
    {#if problem}<p class="font-medium text-error">{problem}</p>
    {:else if next.length}
      <p class="font-medium">The next times</p>
      <ol class="columns-2 tabular-nums">
        {#each next as time (time)}<li>{localTime(time, texts.zone || 'UTC')}</li>{/each}
      </ol>
    {/if}
  </div>
</Dialog>
