/** The page of one load run, which needs no service: its data is in the page. */
import { mount } from 'svelte';
import Report from './Report.svelte';
import './app.css';

const target = document.getElementById('app');
const data = document.getElementById('run')?.textContent ?? '';
if (target) {
  const run = JSON.parse(data);
  document.title = `Load run ${run.id}: ${run.profile.name}`;
  mount(Report, { target, props: { run } });
}
