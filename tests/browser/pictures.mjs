// Makes the pictures of docs/screenshots from demo data, all of them invented.
// usage: node pictures.mjs BASE_URL OUT_DIR      BASE_URL: an application just begun with demo data
import { chromium } from 'playwright-core';
import { launch } from './browser.mjs';
import { startServer } from './server.mjs';

const [base, out] = process.argv.slice(2);
const main = 'circulation-to-warehouse';
const wait = (ms) => new Promise((wake) => setTimeout(wake, ms));
const ask = async (method, path, body, type = 'application/json') => {
  const answer = await fetch(base + path, { method, headers: { 'content-type': type }, body: body === undefined ? undefined : type === 'application/json' ? JSON.stringify(body) : body });
  if (!answer.ok) { throw new Error(`${method} ${path}: ${await answer.text()}`); }
  return answer.status === 204 ? null : answer.json().catch(() => null);
};
const post = (path, body) => ask('POST', path, body ?? {});
const define = (yaml) => ask('POST', '/api/v1/crossings', yaml, 'application/yaml');
const run = (connection, statement) => post(`/api/v1/bench/${connection}`, { statement });
const following = async (name) => { for (let i = 0; i < 300 && (await ask('GET', `/api/v1/crossings/${name}/status`)).state !== 'following'; i++) { await wait(200); } };

const browser = await launch(chromium);
const picture = async (name, path, { scheme = 'light', before = async () => {} } = {}) => {
  const page = await browser.newPage({ viewport: { width: 1280, height: 800 }, colorScheme: scheme });
  page.on('console', (message) => ['error', 'warning'].includes(message.type()) && console.log(`${name}: ${message.text()}`));
  await page.goto(base + path);
  await before(page);
  await page.waitForTimeout(1600);
  await page.screenshot({ path: `${out}/${name}.png` });
  await page.close();
};

await following(main);
const worded = async (name, word) => { for (let i = 0; i < 600 && (await ask('GET', `/api/v1/crossings/${name}/status`)).headline.word !== word; i++) { await wait(200); } };
await worded('titles-to-desk', 'quarantine');
await worded('subjects-to-archive', 'differs');
await worded('catalogue-to-depot', 'stopped');
await wait(5000);
await picture('fleet', '/');
await run('circulation', "UPDATE branch SET town = 'Brackenmere' WHERE id = 7");
await post('/api/v1/connections', { name: 'lake', kind: 'stand-in' });
await define(`name: patrons-in-lake
purpose: copy
source: circulation
target: lake
tables:
  rules:
  - take: circulation.*
  - leave: '*.copy'
treatment:
- tables: circulation.patron
  mask:
  - column: email
    by: hash
  - column: full_name
    by: pseudonym
    kind: name
  - column: address
    by: keepLast
    last: 4
- tables: circulation.patron
  keep: category <> 'staff'
- tables: circulation.loan
  split:
  - into: lake.open_loan
    when: returned_at IS NULL
  - into: lake.closed_loan
`);
await post('/api/v1/crossings/patrons-in-lake/start');
await following('patrons-in-lake');
await run('ledger', "CREATE TABLE fine (id INTEGER PRIMARY KEY, note TEXT); INSERT INTO fine VALUES (1, 'kept by hand'), (2, 'kept by hand'), (3, 'kept by hand')");
await define(`name: fines-again
purpose: copy
source: circulation
target: ledger
tables:
  rules:
  - take: circulation.fine
start:
  existing: replace
`);

await picture('treatment', '/crossings/patrons-in-lake/treatment?table=circulation.patron');
await picture('definition', '/crossings/patrons-in-lake/definition');
await picture('start', '/crossings/fines-again/start');
await picture('new', '/crossings/new?show=plan&name=branches&source=circulation&target=ledger&rules=circulation.patron&treatment=-%20tables%3A%20circulation.patron%0A%20%20mask%3A%0A%20%20-%20column%3A%20email%0A%20%20%20%20by%3A%20keepLast%0A%20%20%20%20last%3A%204', { before: (page) => page.locator('#steps').scrollIntoViewIfNeeded() });
await picture('connection', '/connections/circulation');
const then = new Date(Date.now() - 8000).toISOString().slice(0, 19).replace('T', ' ');
await picture('as-of', `/crossings/${main}/as-of?table=circulation.loan&table=circulation.hold&at=${encodeURIComponent(then)}&target=ledger`);
await picture('sides', `/crossings/${main}/tables/circulation.branch?key=7`);
await run('circulation', 'ALTER TABLE branch ADD COLUMN floor_area INTEGER');
await run('circulation', 'UPDATE branch SET floor_area = 140 + 11 * id');
await wait(3000);
await picture('versions', '/connections/circulation/schema/circulation.branch');

// A server with tables of its own.
const server = await startServer();
server.psql('postgres', "CREATE ROLE reader SUPERUSER LOGIN PASSWORD 'invented'", 'CREATE DATABASE catalogue OWNER reader');
server.psql('postgres', "ALTER SYSTEM SET wal_level = 'logical'");
server.restart();
server.psql('catalogue', 'CREATE TABLE title (id int PRIMARY KEY, name text)', "INSERT INTO title SELECT i, 'title ' || i FROM generate_series(1, 200000) i",
  'CREATE TABLE loan_history (id int, day date, PRIMARY KEY (id, day)) PARTITION BY RANGE (day)',
  "CREATE TABLE loan_history_2026_01 PARTITION OF loan_history FOR VALUES FROM ('2026-01-01') TO ('2026-02-01')",
  "CREATE TABLE loan_history_2026_02 PARTITION OF loan_history FOR VALUES FROM ('2026-02-01') TO ('2026-03-01')",
  "INSERT INTO loan_history SELECT i, date '2026-01-01' + i % 59 FROM generate_series(1, 3000) i", 'ANALYZE');
await post('/api/v1/connections', { name: 'union-catalogue', kind: 'postgresql', settings: { host: '127.0.0.1', port: String(server.port), database: 'catalogue', user: 'reader', tls: 'prefer', note: 'the cataloguing team' }, secret: { password: 'invented' } });
await picture('server', '/connections/union-catalogue?role=source');

// Rows that another hand has changed.
await run('warehouse', "UPDATE loan SET due_on = '2027-01-01' WHERE id IN (1200, 24000, 24001)");
await run('warehouse', "UPDATE patron SET email = 'somebody@library.example ' WHERE id IN (7, 99)");
const { id } = await post(`/api/v1/crossings/${main}/reconciliations`);
while ((await ask('GET', `/api/v1/crossings/${main}/reconciliations/${id}`)).state === 'running') { await wait(200); }
await picture('reconcile', `/crossings/${main}/reconcile/${id}?table=warehouse.patron&row=0`, { before: (page) => page.locator('#row').scrollIntoViewIfNeeded() });
await picture('repair', `/crossings/${main}/reconcile/${id}/repair`);
await picture('tables', `/crossings/${main}/tables`);
await post(`/api/v1/crossings/${main}/reconciliations/${id}/repair`, { table: 'warehouse.loan', rows: [0] });
await run('circulation', 'UPDATE loan SET renewals = renewals + 1 WHERE id = 1200');
await wait(1500);
await picture('trace', '/trace?connection=circulation&table=circulation.loan&key=1200');

// Rows that the target refuses.
const rule = await browser.newPage();
await rule.goto(`${base}/crossings/${main}/quarantine`);
await rule.getByLabel('quarantine it and continue').check();
await rule.getByLabel('Limit, rows').fill('500');
await rule.getByRole('button', { name: 'Save', exact: true }).click();
await rule.close();
await run('warehouse', "CREATE TRIGGER register BEFORE UPDATE ON copy WHEN NEW.price > 55 BEGIN SELECT RAISE(ABORT, 'price above the limit of the register'); END");
for (let i = 0; i < 150 && (await ask('GET', `/api/v1/crossings/${main}/quarantine`)).total < 8; i++) { await wait(200); }
await picture('quarantine', `/crossings/${main}/quarantine`, { before: (page) => page.locator('a.mono, a.row').filter({ hasText: 'circulation.copy' }).first().click() });
await picture('alerts', '/alerts');
await picture('events', '/events');
await run('warehouse', 'DROP TRIGGER register');
await wait(20000);
await picture('now', `/crossings/${main}`);
await picture('now-dark', `/crossings/${main}`, { scheme: 'dark' });
await browser.close();
server.end();
