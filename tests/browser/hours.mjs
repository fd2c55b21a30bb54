// A page left open: as many live updates as so many hours bring (one a second), as fast as they go; what the page holds is
// measured after a collection of garbage, early and at the end.
// usage: node hours.mjs BASE_URL HOURS PATH ...  ends with one line "N passed, N failed"
import { chromium } from 'playwright-core';
import { launch } from './browser.mjs';

const [base, hours, paths] = [process.argv[2], Number(process.argv[3] ?? 8), process.argv.slice(4)];
const updates = Math.round(hours * 3600);
const warm = Math.min(600, Math.floor(updates / 4));
const browser = await launch(chromium);

const holds = async (session) => {
  for (let i = 0; i < 3; i++) { await session.send('HeapProfiler.collectGarbage'); }
  const { metrics } = await session.send('Performance.getMetrics');
  const of = (name) => metrics.find((metric) => metric.name === name).value;
  return { heap: of('JSHeapUsedSize'), nodes: of('Nodes'), listeners: of('JSEventListeners') };
};

const update = (page, count) => page.evaluate(async (times) => {
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

// Beside other work what is no longer needed is let go later: what is held is the least that is seen within some seconds.
const settled = async (page, session) => {
  let least = await holds(session);
  for (let i = 0; i < 10; i++) {
    await page.waitForTimeout(400);
    const now = await holds(session);
    least = Object.fromEntries(Object.keys(least).map((what) => [what, Math.min(least[what], now[what])]));
  }
  return least;
};

let [passed, failed] = [0, 0];
for (const path of paths) {
  const page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
  const session = await page.context().newCDPSession(page);
  await session.send('Performance.enable');
  await page.goto(base + path);
  await page.waitForTimeout(1500);
  await update(page, warm);
  const early = await settled(page, session);
  for (let done = warm; done < updates; done += 600) { await update(page, Math.min(600, updates - done)); }
  const late = await settled(page, session);
  await page.close();
  // The tree that was replaced last may still be there; what is kept for each update shows in the long run, a listener each in a short one.
  const ok = late.heap < 1.3 * early.heap && late.nodes < 2 * early.nodes && late.listeners < early.listeners + 50 + updates / 100;
  if (ok) { passed++; } else { failed++; }
  console.log(`${ok ? 'ok  ' : 'FAIL'} ${path} holds its memory over ${updates} updates: heap ${(early.heap / 1e6).toFixed(1)} MB after ${warm}, ${(late.heap / 1e6).toFixed(1)} MB at the end; nodes ${early.nodes}, ${late.nodes}; listeners ${early.listeners}, ${late.listeners}`);
}
await browser.close();
console.log(`${passed} passed, ${failed} failed`);
process.exit(failed === 0 ? 0 : 1);
