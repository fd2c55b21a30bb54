// A page left open: as many live updates as so many hours bring (one a second), as fast as they go; what the page holds is
// measured after a collection of garbage, early and at the end.
// usage: node hours.mjs BASE_URL HOURS PATH      ends with one line "N passed, N failed"
import { chromium } from 'playwright-core';
import { launch } from './browser.mjs';

const [base, hours, path] = [process.argv[2], Number(process.argv[3] ?? 8), process.argv[4] ?? '/'];
const updates = Math.round(hours * 3600);
const warm = Math.min(600, Math.floor(updates / 4));
const browser = await launch(chromium);
const page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
const session = await page.context().newCDPSession(page);
await session.send('Performance.enable');
const holds = async () => {
  for (let i = 0; i < 3; i++) { await session.send('HeapProfiler.collectGarbage'); }
  const { metrics } = await session.send('Performance.getMetrics');
  const of = (name) => metrics.find((metric) => metric.name === name).value;
  return { heap: of('JSHeapUsedSize'), nodes: of('Nodes'), listeners: of('JSEventListeners') };
};

await page.goto(base + path);
await page.waitForTimeout(1500);
const run = (count) => page.evaluate(async (times) => {
  const live = document.querySelector('[hx-trigger*="live"]');
  if (!live) { throw new Error('nothing on the page is updated'); }
  const id = live.id;
  for (let i = 0; i < times; i++) {
    await new Promise((done) => {
      const end = () => { document.body.removeEventListener('htmx:afterSettle', end); clearTimeout(late); done(); };
      const late = setTimeout(end, 2000);
      document.body.addEventListener('htmx:afterSettle', end);
      window.htmx.ajax('GET', document.getElementById(id).getAttribute('hx-get'), { source: `#${id}`, target: `#${id}`, swap: 'morph:outerHTML' });
    });
  }
}, count);

await run(warm);
const early = await holds();
for (let done = warm; done < updates; done += 600) { await run(Math.min(600, updates - done)); }
const late = await holds();
await browser.close();
const ratio = (name) => late[name] / early[name];
const ok = ratio('heap') < 1.3 && ratio('nodes') < 1.5 && ratio('listeners') < 1.5;
console.log(`${path}: ${updates} updates; heap ${(early.heap / 1e6).toFixed(1)} MB after ${warm}, ${(late.heap / 1e6).toFixed(1)} MB at the end; nodes ${early.nodes}, ${late.nodes}; listeners ${early.listeners}, ${late.listeners}`);
console.log(`${ok ? 1 : 0} passed, ${ok ? 0 : 1} failed`);
process.exit(ok ? 0 : 1);
