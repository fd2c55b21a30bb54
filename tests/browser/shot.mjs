// Takes pictures of pages: node shot.mjs BASE OUT_DIR name=path[@dark] ...
import { chromium } from 'playwright-core';
import { launch } from './browser.mjs';

const [base, out, ...wanted] = process.argv.slice(2);
const browser = await launch(chromium);
for (const item of wanted) {
  const [name, rest] = [item.slice(0, item.indexOf('=')), item.slice(item.indexOf('=') + 1)];
  const [path, scheme] = rest.split('@');
  const page = await browser.newPage({ viewport: { width: 1280, height: 800 }, colorScheme: scheme === 'dark' ? 'dark' : 'light' });
  page.on('console', (message) => ['error', 'warning'].includes(message.type()) && console.log(`${name}: ${message.text()}`));
  await page.goto(base + path);
  await page.waitForTimeout(1600);
  await page.screenshot({ path: `${out}/${name}.png` });
  await page.close();
}
await browser.close();
