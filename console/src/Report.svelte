<script lang="ts">
  import type { LoadRun } from './lib/api';
  import * as format from './lib/format';
  import * as series from './lib/load-series';
  import LoadAnswer from './components/LoadAnswer.svelte';
  import LoadReport from './components/LoadReport.svelte';

  let { run }: { run: LoadRun } = $props();

  const looks = $derived(series.looksOf(run));
</script>

<main class="mx-auto max-w-screen-2xl px-6 py-4">
  <p class="text-sm">
    Verax load run {run.id} · {run.profile.name} · {run.profile.namespace} · {format.moment(run.started_at)} · {run.state}
  </p>
  <LoadAnswer {run} {looks} />
  <LoadReport {run} {looks} />
  <details class="mt-4">
    <summary class="cursor-pointer font-semibold">The load profile</summary>
    <pre class="overflow-x-auto text-sm">{JSON.stringify(run.profile, null, 2)}</pre>
  </details>
</main>
