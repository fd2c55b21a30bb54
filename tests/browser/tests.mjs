// Each main task of a person, in Debian's Chromium, against the real application with demo data.
// usage: node tests.mjs BASE_URL      ends with one line "N passed, N failed"
import { chromium } from 'playwright-core';
import { AxeBuilder } from '@axe-core/playwright';
import { launch } from './browser.mjs';
import { startServer } from './server.mjs';

const base = process.argv[2];
const crossing = 'circulation-to-warehouse';
const tests = [];
const test = (name, run) => tests.push([name, run]);
const looks = [];
const assert = (holds, what) => { if (!holds) { throw new Error(what); } };

// So long is waited for what must come, however slow the machine; how long it took is printed where it was promised.
const patience = 180000;
const until = async (look, what) => {
  const end = Date.now() + patience;
  for (;;) {
    const seen = await look();
    if (seen) { return seen; }
    if (Date.now() > end) { throw new Error(`waited in vain for ${what}`); }
    await new Promise((wake) => setTimeout(wake, 100));
  }
};

// No page has frames, for which the other mode opens a page of its own each time.
const axe = (page) => new AxeBuilder({ page }).setLegacyMode();
const status = async (name) => (await fetch(`${base}/api/v1/crossings/${name}/status`)).json();
const bench = async (page, connection, statement) => {
  await page.goto(`${base}/bench/${connection}`);
  await page.getByLabel('Statements').fill(statement);
  await page.getByRole('button', { name: 'Run' }).click();
};

test('a change is watched as it arrives', async (page) => {
  await until(async () => (await status(crossing)).state === 'following', 'following');
  await bench(page, 'circulation', "UPDATE branch SET town = 'Brackenmere' WHERE id = 7");
  await page.getByRole('link', { name: crossing, exact: true }).first().click();
  await until(async () => (await page.locator('.both').getAttribute('data-same')) === 'true', 'both sides alike');
  assert((await page.locator('.both').textContent()).split('Brackenmere').length === 3, 'the new town stands on both sides');

  // The page stays open: the next change is seen there within a second of its commit, without a reload.
  const began = Date.now();
  const answer = await fetch(`${base}/api/v1/bench/circulation`, {
    method: 'POST', headers: { 'content-type': 'application/json' }, body: JSON.stringify({ statement: "UPDATE branch SET town = 'Pellgate' WHERE id = 7" }),
  });
  assert(answer.ok, 'the second statement runs');
  await until(async () => (await page.locator('.both').textContent()).split('Pellgate').length === 3, 'the second change');
  console.log(`    seen ${Date.now() - began} ms after the statement was sent`);
});

test('an insert and a delete arrive', async (page) => {
  await bench(page, 'circulation', "INSERT INTO branch VALUES (900, 'B900', 'Seen once', 'Nowhere')");
  await page.getByRole('link', { name: crossing, exact: true }).first().click();
  await until(async () => (await page.locator('.both').getAttribute('data-same')) === 'true' && (await page.locator('.both').textContent()).includes('Seen once'), 'the row there');
  await bench(page, 'circulation', 'DELETE FROM branch WHERE id = 900');
  await page.getByRole('link', { name: crossing, exact: true }).first().click();
  await until(async () => (await page.locator('.both').textContent()).includes('not on the target'), 'the row gone');
});

test('a crossing is created, its consequence read, and started', async (page) => {
  await page.goto(`${base}/crossings/new`);
  await page.getByLabel('Name', { exact: true }).fill('branches-to-ledger');
  await page.getByLabel('Target', { exact: true }).selectOption('ledger');
  await page.locator('label', { hasText: 'circulation.branch' }).getByRole('checkbox').check();
  await page.locator('label', { hasText: 'circulation.patron_category' }).getByRole('checkbox').check();
  await until(async () => (await page.locator('#consequence').textContent()).includes('rows to load'), 'the plan');
  await page.getByText('2 statements to create missing tables').click();
  assert((await page.locator('#consequence').textContent()).includes('CREATE TABLE "branch"'), 'the statement is shown before it runs');
  const start = page.getByRole('button', { name: 'Start', exact: true });
  const place = async () => JSON.stringify([await start.boundingBox(), await page.locator('#plan details', { hasText: 'statements to create' }).evaluate((details) => details.open)]);
  const before = await place();
  const drawn = page.waitForResponse((response) => response.url().includes('part=consequence'));
  await page.locator('label', { hasText: 'circulation.patron_category' }).getByRole('checkbox').dispatchEvent('change');
  await (await drawn).finished();
  await page.waitForTimeout(200);
  assert(before === await place(), `nothing moves and nothing closes when the plan is drawn anew: ${before}, then ${await place()}`);
  await start.click();
  await page.waitForURL(/branches-to-ledger$/).catch(() => {});
  assert(page.url().endsWith('/crossings/branches-to-ledger'), `one is on its page, not on ${page.url()}: ${await page.locator('#main').textContent()}`);
  await until(async () => (await status('branches-to-ledger')).state === 'following', `following: ${JSON.stringify(await status('branches-to-ledger'))}`);
});

test('a definition is taken from a file, corrected by its message, kept, and downloaded again', async (page) => {
  await page.goto(`${base}/crossings/${crossing}/definition`);
  await page.getByRole('link', { name: 'copy to another crossing' }).click();
  const text = page.getByLabel('Text', { exact: true });
  const given = (await text.inputValue()).replace(/name: .*/, 'name: from-a-file').replace('target: warehouse', 'target: ledger').replace('take: circulation.*', 'tak: circulation.fine');
  await text.fill('');
  await page.getByLabel('A file, used instead').setInputFiles({ name: 'crossing.yaml', mimeType: 'application/yaml', buffer: Buffer.from(given) });
  await page.getByRole('button', { name: 'Save draft' }).click();
  const problem = page.locator('#problems');
  await until(async () => (await problem.textContent()).includes('Line 7, column 5'), `the place: ${await problem.textContent()}`);
  assert((await problem.textContent()).includes('Known here are take, leave.'), 'what would be right is said');
  assert((await fetch(`${base}/api/v1/crossings/from-a-file`)).status === 404, 'nothing was made');
  await text.fill((await text.inputValue()).replace('tak:', 'take:'));
  await page.getByRole('button', { name: 'Show the plan' }).click();
  await until(async () => (await problem.textContent()).includes('rows to load'), 'the plan');
  await page.getByRole('button', { name: 'Save draft' }).click();
  await page.waitForURL(/from-a-file\/definition$/);
  const [download] = await Promise.all([page.waitForEvent('download'), page.getByRole('link', { name: 'download as a file' }).click()]);
  assert(download.suggestedFilename() === 'from-a-file.yaml', download.suggestedFilename());
  const answer = await fetch(`${base}/api/v1/crossings/from-a-file`, { headers: { accept: 'application/yaml' } });
  const written = await answer.text();
  assert(written.includes('take: circulation.fine'), written);
  const removed = await fetch(`${base}/api/v1/crossings/from-a-file`, { method: 'DELETE', headers: { 'if-match': answer.headers.get('etag') } });
  assert(removed.ok, 'it is removed');
  const again = await fetch(`${base}/api/v1/crossings`, { method: 'POST', headers: { 'content-type': 'application/yaml' }, body: written });
  assert(again.status === 201, `the file makes it again: ${again.status}`);
});

// A key that comes too late for the one before it, on a machine that is slow, is pressed again, as a person does.
const reach = (page, url, press) => until(async () => {
  if (!url.test(page.url())) { await press(); }
  return page.waitForURL(url, { timeout: 10000 }).then(() => true, () => false);
}, `${url}`);
const goTo = (page, letter, url) => reach(page, url, async () => { await page.keyboard.press('g'); await page.keyboard.press(letter); });

// By keyboard alone: what has the focus is reached with Tab, as a person does.
const tabTo = async (page, selector) => {
  for (let presses = 0; presses < 160; presses += 1) {
    if (await page.evaluate((wanted) => document.activeElement?.matches(wanted) ?? false, selector)) { return; }
    await page.keyboard.press('Tab');
  }
  throw new Error(`Tab does not reach ${selector}`);
};

test('twelve tables with a rule, a mask, a split and a rename, by keyboard, from an empty page to following', async (page) => {
  const send = (path, body, method = 'POST') => fetch(`${base}/api/v1/${path}`, { method, headers: { 'content-type': 'application/json' }, body: JSON.stringify(body) });
  await send('connections', { name: 'depot', kind: 'stand-in', settings: {} });
  await send('bench/circulation', { statement: 'CREATE TABLE shelf (id INTEGER PRIMARY KEY, code TEXT); CREATE TABLE reminder (id INTEGER PRIMARY KEY, patron_id INTEGER, sent_on TEXT); INSERT INTO shelf VALUES (1, \'A1\')' });
  await page.goto(`${base}/`);
  await goTo(page, 'n', /crossings\/new/);
  await tabTo(page, '#name');
  await page.keyboard.type('all-to-depot');
  await tabTo(page, '#target');
  await page.keyboard.type('depot');
  await tabTo(page, '#rules');
  await page.keyboard.type('circulation.*');
  await until(async () => (await page.locator('#pick').textContent()).includes('12 tables selected'), 'the twelve tables');
  assert((await page.locator('#pick').textContent()).includes('selected by circulation.*'), 'the rule that took a table is shown');
  const steps = (email) => ['- tables: circulation.patron', '  mask:', `  - column: ${email}`, '    by: hash', '- tables: circulation.loan', '  split:', '  - into: depot.loan_open', '    when: returned_at IS NULL',
    '  - into: depot.loan_past', '- tables: circulation.branch', '  rename:', '  - column: town', '    to: place'].join('\n');
  await tabTo(page, '#as-text summary');
  await page.keyboard.press('Enter');
  await tabTo(page, '#treatment');
  await page.keyboard.insertText(steps('emial'));
  await page.keyboard.press('End');
  await until(async () => (await page.locator('#sample').textContent()).includes('Line 3, column'), 'the error at its line');
  assert((await page.locator('#sample').textContent()).includes('has no column emial'), await page.locator('#sample').textContent());
  await page.keyboard.press('Control+a');
  await page.keyboard.insertText(steps('email'));
  await page.keyboard.press('End');
  await until(async () => (await page.locator('#sample').textContent()).includes('TEXT, '), 'the rows before and after, the masked value hidden');
  await tabTo(page, 'button[name=start][value=true]');
  await until(async () => (await page.locator('#consequence').textContent()).includes('rows to load'), 'the plan');
  await page.keyboard.press('Enter');
  await page.waitForURL(/all-to-depot$/).catch(async () => { throw new Error(await page.locator('#consequence').textContent()); });
  await until(async () => (await status('all-to-depot')).state === 'following', `following: ${JSON.stringify(await status('all-to-depot'))}`);
  assert((await status('all-to-depot')).tables.length === 12, 'twelve tables');
  const ask = async (connection, statement) => (await (await send(`bench/${connection}`, { statement })).json()).rows[0].join(' ');
  assert(await ask('depot', 'SELECT count(*) || \' \' || min(length(email)) || \' \' || max(length(email)) FROM patron WHERE email IS NOT NULL') === `${await ask('circulation', 'SELECT count(*) FROM patron WHERE email IS NOT NULL')} 64 64`, 'every address is a hash');
  assert(await ask('depot', 'SELECT place FROM branch WHERE id = 3') === await ask('circulation', 'SELECT town FROM branch WHERE id = 3'), 'the column has its new name');
  await ask('circulation', 'INSERT INTO loan SELECT 900001, copy_id, patron_id, lent_at, due_on, NULL, 0 FROM loan LIMIT 1; SELECT 1').catch(() => {});
  await until(async () => await ask('depot', 'SELECT count(*) FROM loan_open WHERE id = 900001') === '1', 'the open loan');
  await ask('circulation', "UPDATE loan SET returned_at = '2026-11-25 10:00:00' WHERE id = 900001; SELECT 1").catch(() => {});
  await until(async () => await ask('depot', 'SELECT (SELECT count(*) FROM loan_open WHERE id = 900001) || \' \' || (SELECT count(*) FROM loan_past WHERE id = 900001)') === '0 1', 'it moves to the past ones');

  await page.goto(`${base}/crossings/all-to-depot/treatment?table=circulation.patron`);
  assert((await page.locator('#main').textContent()).includes('a mask over'), 'the treatment has its page');
});

test('rows are filtered, masked, renamed and split in forms, and the text says the same', async (page) => {
  await page.goto(`${base}/crossings/new?name=by-forms&source=circulation&target=depot&rules=circulation.patron&into=depot&suffix=_by_form`);
  const text = async () => page.locator('#treatment').inputValue();
  const sample = page.locator('#sample');
  await page.getByLabel('Row filter').fill('id < 200');
  await page.getByLabel('Row filter').press('Tab');
  await until(async () => (await text()).includes('keep: id < 200'), `the filter in the text: ${await text()}`);
  await page.getByLabel('Mask of email', { exact: true }).focus();
  await page.getByLabel('Mask of email', { exact: true }).selectOption('last characters only');
  await until(async () => (await text()).includes('by: keepLast') && (await text()).includes('last: 4'), `the mask: ${await text()}`);
  assert(await page.evaluate(() => document.activeElement?.id?.startsWith('mask-')), 'the focus stays where one works');
  await page.getByLabel('Mask of email: characters').fill('3');
  await page.getByLabel('Mask of email: characters').press('Tab');
  await until(async () => (await text()).includes('last: 3'), `as many characters as said: ${await text()}`);
  const column = (await page.locator('.choices tbody tr td:first-child .mono').allTextContents()).find((name) => !['id', 'email'].includes(name));
  await page.getByLabel(`Name of ${column} on the target`).fill('given_other_name');
  await page.getByLabel(`Name of ${column} on the target`).press('Tab');
  await until(async () => (await sample.textContent()).includes('given_other_name'), 'the new name in the rows after');
  await page.getByText('Split into several target tables').click();
  await page.getByLabel('Target table', { exact: true }).first().fill('depot.patron_low');
  await page.getByLabel('Condition', { exact: true }).first().fill('id < 100');
  await page.getByLabel('Condition', { exact: true }).first().press('Tab');
  await until(async () => (await page.getByLabel('Target table', { exact: true }).count()) === 2, 'a line for the next table');
  await page.getByLabel('Target table', { exact: true }).last().fill('depot.patron_high');
  await page.getByLabel('Target table', { exact: true }).last().press('Tab');
  await until(async () => (await text()).includes('into: depot.patron_high'), `the split: ${await text()}`);

  // The text is changed by hand: the fields follow.
  await page.getByText('Steps as text').click();
  await page.locator('#treatment').fill((await text()).replace('id < 200', 'id < 150'));
  await until(async () => (await page.getByLabel('Row filter').inputValue()) === 'id < 150', 'the field says what the text says');

  // A condition that cannot be read is told, and nothing that was typed is lost.
  await page.getByLabel('Row filter').fill('idd < 150');
  await page.getByLabel('Row filter').press('Tab');
  await until(async () => (await sample.getByRole('alert').textContent()).includes('idd'), 'what is wrong');
  assert((await page.getByLabel('Row filter').inputValue()) === 'idd < 150', 'what was typed stays');
  await page.getByLabel('Row filter').fill('id < 150');
  await page.getByLabel('Row filter').press('Tab');
  await until(async () => (await sample.getByRole('alert').count()) === 0, 'it is right again');
  await until(async () => (await page.locator('#consequence').textContent()).includes('patron_low'), 'the plan');
  await page.getByText('This crossing as a file').click();
  await until(async () => (await page.locator('#consequence').textContent()).includes('keep: id < 150'), 'the document says the same');
  await page.getByRole('button', { name: 'Start', exact: true }).click();
  await page.waitForURL(/by-forms$/).catch(async () => { throw new Error(await page.locator('#consequence').textContent()); });
  await until(async () => (await status('by-forms')).state === 'following', `following: ${JSON.stringify(await status('by-forms'))}`);
  const ask = async (connection, statement) => (await (await fetch(`${base}/api/v1/bench/${connection}`, { method: 'POST', headers: { 'content-type': 'application/json' }, body: JSON.stringify({ statement }) })).json()).rows[0].join(' ');
  assert(await ask('depot', 'SELECT (SELECT count(*) FROM patron_low) + (SELECT count(*) FROM patron_high)') === await ask('circulation', 'SELECT count(*) FROM patron WHERE id < 150'), 'the rows that meet the condition, in two tables');
  assert(await ask('depot', "SELECT count(*) FROM patron_low WHERE email IS NOT NULL AND email NOT LIKE '***%'") === '0', 'every address is masked');
});

test('a crossing that runs is changed as a file, after what that needs was shown', async (page) => {
  await page.goto(`${base}/crossings/all-to-depot/definition`);
  await page.getByRole('link', { name: 'change as a file' }).click();
  const text = page.getByLabel('Text', { exact: true });
  await text.fill((await text.inputValue()).replace('to: place', 'to: site').replace('- take: circulation.*', "- take: circulation.*\n  - leave: '*.shelf'"));
  await page.getByRole('button', { name: 'Show what it needs' }).click();
  const change = page.locator('#change');
  await until(async () => (await change.textContent()).includes('circulation.branch is loaded again'), 'what it needs');
  assert((await change.textContent()).includes('circulation.shelf leaves'), await change.textContent());
  await page.getByRole('button', { name: 'Apply change' }).click();
  await page.waitForURL(/all-to-depot$/);
  await until(async () => {
    const { state, tables } = await status('all-to-depot');
    return state === 'following' && tables.length === 11 && tables.every((table) => table.state === 'following');
  }, 'following with eleven, the one that is loaded again among them');
  const answer = await (await fetch(`${base}/api/v1/bench/depot`, { method: 'POST', headers: { 'content-type': 'application/json' }, body: JSON.stringify({ statement: 'SELECT site FROM branch WHERE id = 3' }) })).json();
  assert(answer.rows.length === 1, JSON.stringify(answer));
});

test('a start that destroys rows waits for the name to be typed', async (page) => {
  const bench = async (statement) => (await fetch(`${base}/api/v1/bench/depot`, { method: 'POST', headers: { 'content-type': 'application/json' }, body: JSON.stringify({ statement }) })).json();
  await bench("CREATE TABLE payment_old (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO payment_old VALUES (1, 'old'), (2, 'old')");
  await fetch(`${base}/api/v1/bench/circulation`, { method: 'POST', headers: { 'content-type': 'application/json' }, body: JSON.stringify({ statement: "CREATE TABLE payment_old (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO payment_old VALUES (3, 'new')" }) });
  await page.goto(`${base}/crossings/new`);
  await page.getByLabel('Name', { exact: true }).fill('old-payments');
  await page.getByLabel('Source', { exact: true }).selectOption('circulation');
  await page.getByLabel('Target', { exact: true }).selectOption('depot');
  await page.getByLabel('If target tables already contain rows').selectOption('Empty');
  await page.getByLabel('Table rules').fill('circulation.payment_old');
  const plan = page.locator('#consequence');
  await until(async () => (await plan.textContent()).includes('2 rows of depot.payment_old'), 'what is lost');
  await page.getByRole('button', { name: 'Start', exact: true }).click();
  await until(async () => (await plan.textContent()).includes('there is none, and a start destroys'), 'the refusal');
  assert((await bench('SELECT count(*) FROM payment_old')).rows[0][0] === '2', 'nothing was deleted');
  await page.getByRole('button', { name: 'Save draft' }).click();
  await page.waitForURL(/old-payments$/);
  await page.getByRole('button', { name: 'Start', exact: true }).click();
  await page.waitForURL(/old-payments\/start$/);
  await page.getByLabel('Type old-payments to confirm').fill('old-payment');
  await page.getByRole('button', { name: 'Delete and start' }).click();
  await page.getByText("'old-payment' is not the crossing's name").waitFor();
  await page.getByLabel('Type old-payments to confirm').fill('old-payments');
  await page.getByRole('button', { name: 'Delete and start' }).click();
  await page.waitForURL(/old-payments$/);
  await until(async () => (await bench('SELECT id, v FROM payment_old')).rows.join() === '3,new', 'the rows of the source');
});

test('elements become rows of a table of their own, made by a statement of one\'s own', async (page) => {
  await bench(page, 'circulation', `CREATE TABLE request (id INTEGER PRIMARY KEY, items TEXT);
INSERT INTO request VALUES (1, '[{"title":"Rivers","copies":2},{"title":"Maps"}]'), (2, NULL)`);
  await until(async () => (await page.locator('#main').textContent()).includes('request'), 'the table');
  await page.goto(`${base}/crossings/new`);
  await page.goto(`${base}/crossings/new?name=requests&target=ledger&rules=circulation.request&show=plan`);
  await page.getByText('Steps as text').click();
  await page.getByRole('button', { name: 'child rows' }).click();
  const steps = page.getByLabel('Steps, from top to bottom');
  await steps.fill(`- tables: circulation.request
  children:
  - from: items
    into: ledger.request_item
    columns:
    - column: title
      field: title
    - column: copies
      field: copies
      as: integer
- tables: circulation.request
  leaveOut: [items]
- tables: circulation.request.items
  mask:
  - column: title
    by: keepLast
    last: 2
`);
  await until(async () => (await page.locator('#sample').textContent()).includes('****rs'), 'the child row, masked');
  assert(!(await page.locator('#sample').textContent()).includes('Rivers'), 'what a mask stands on is not shown');
  // The plan comes after the sample; the statement of the one before it still has the column.
  await until(async () => (await page.locator('#consequence').textContent()).includes('request_item'), 'the plan with the child rows');
  await page.getByText('to create missing tables on the target').click();
  await page.getByRole('button', { name: 'Edit the statement for ledger.request', exact: true }).click();
  const own = page.locator('#structure');
  await own.fill((await own.inputValue()).replace('INTEGER PRIMARY KEY', 'INTEGER PRIMARY KEY CHECK ("id" < 1000)'));
  await until(async () => (await page.locator('#consequence').textContent()).includes('statement for ledger.request'), 'the line about it');
  await page.getByRole('button', { name: 'Start', exact: true }).click();
  await page.waitForURL(/requests$/);
  await until(async () => (await status('requests')).state === 'following', 'following');
  await bench(page, 'circulation', `UPDATE request SET items = '[{"title":"Maps"}]' WHERE id = 1`);
  await until(async () => {
    await bench(page, 'ledger', `SELECT (SELECT group_concat(title || ordinal) FROM request_item) || ' ' || (SELECT sql FROM sqlite_schema WHERE name = 'request') AS made`);
    await page.waitForTimeout(200);
    const made = await page.locator('#main').textContent();
    return made.includes('**ps1') && made.includes('< 1000') && !made.includes('rs1');
  }, 'the child rows and the statement', 30000);
});

test('the log is kept for a draft from its page', async (page) => {
  await page.goto(`${base}/crossings/new?name=from-a-dump&target=ledger&rules=circulation.patron_category&kind=Changes&from=2026-01-01+10:00:00&show=plan`);
  await until(async () => (await page.locator('#consequence').textContent()).includes('log kept'), 'the line about the log');
  await page.getByRole('button', { name: 'Save draft' }).click();
  await page.waitForURL(/from-a-dump$/);
  await page.getByRole('button', { name: 'Keep the log from now' }).click();
  await until(async () => (await page.locator('#main').textContent()).includes('Every change of its tables after position'), 'since when it is kept');
  assert(!(await page.getByRole('button', { name: 'Keep the log from now' }).isVisible()), 'it is not offered twice');
});

test('a newcomer is told what to try, reads the guide, and chooses a theme', async (page) => {
  await page.goto(`${base}/`);
  const first = page.getByRole('region', { name: 'First steps' });
  assert((await first.locator('li').count()) === 3, 'three things to try');
  await first.getByRole('link').first().click();
  await page.waitForURL(/crossings\//);
  await page.getByRole('link', { name: 'Guide' }).last().click();
  await page.waitForURL(/guide\/lag/);
  await page.locator('#find').fill('quarantine');
  await page.locator('#found').getByRole('link', { name: /Rows in quarantine/ }).click();
  await page.waitForURL(/guide\/quarantine/);
  await page.goto(`${base}/`);
  await first.getByRole('button', { name: 'Hide' }).click();
  await until(async () => (await first.count()) === 0, 'hidden');
  const dark = () => page.evaluate(() => getComputedStyle(document.body).backgroundColor);
  const light = await dark();
  await page.goto(`${base}/you`);
  await page.getByLabel('Theme').selectOption('dark');
  await page.getByLabel('Name').fill('ada');
  await page.getByRole('button', { name: 'Save' }).click();
  assert((await dark()) !== light && (await page.locator('.who').textContent()) === 'ada', 'the theme and the name hold at once');
  await page.getByLabel('Theme').selectOption('');
  await page.getByRole('button', { name: 'Save' }).click();
  assert((await dark()) === light, 'as the system says again');
});

test('bad input is told, and nothing is made', async (page) => {
  await page.goto(`${base}/crossings/new`);
  await page.getByLabel('Name', { exact: true }).fill('Not A Slug');
  await page.getByRole('button', { name: 'Save draft' }).click();
  await page.waitForURL(/tried=true/);
  const said = await page.locator('#consequence').textContent();
  assert(said.includes('has other characters') && said.includes('no rule') | said.includes('there are none'), `both problems are named: ${said}`);
  await page.goto(`${base}/connections`);
  await page.locator('#stand-in-name').fill('circulation');
  await page.getByRole('button', { name: 'Create' }).click();
  assert((await page.getByRole('alert').textContent()).includes('already'), 'a name that is taken is told');
  assert((await page.locator('#stand-in-name').inputValue()) === 'circulation', 'what was typed is still there');
  await page.goto(`${base}/crossings/import`);
  await page.locator('#text').fill('name: half\nsource: nowhere\n');
  await page.getByRole('button', { name: 'Save draft' }).click();
  await until(async () => (await page.locator('#problems').textContent()).includes('source'), 'what is wrong in the file');
  assert((await page.locator('#text').inputValue()).startsWith('name: half'), 'the text is still there');
  await page.reload();
  assert((await page.locator('#text').inputValue()).startsWith('name: half'), 'and after a reload');
  await page.goto(`${base}/bench/circulation?sent=long-gone`);
  assert((await page.getByRole('alert').textContent()).includes('no longer kept'), 'what is no longer kept is said');
});

test('going back after a statement does not run it again', async (page) => {
  await bench(page, 'circulation', "UPDATE branch SET town = 'Once' WHERE id = 12");
  await page.locator('#result').waitFor();
  await page.reload();
  assert((await page.locator('#result').textContent()).includes('1 change'), 'the result is still shown');
  await page.goto(`${base}/crossings`);
  await page.goBack();
  assert((await page.getByLabel('Statements').inputValue()).includes('Once'), 'the statement is still there');
});

test('a crossing stops at a mark, and a mark is taken back', async (page) => {
  await page.goto(`${base}/crossings/${crossing}/stop`);
  await page.getByLabel('Position or time').fill('2099-01-01 00:00');
  await page.getByRole('button', { name: 'Stop at the mark' }).click();
  await until(async () => (await page.locator('#main').textContent()).includes('It stops at 2099-01-01'), 'the mark on the page');
  await page.getByRole('button', { name: 'Take the mark back' }).click();
  await until(async () => !(await page.locator('#main').textContent()).includes('It stops at'), 'the mark gone');
  assert((await status(crossing)).state === 'following', 'it runs on');
  await page.goto(`${base}/crossings/${crossing}/stop`);
  await page.getByLabel('Position or time').fill('soon');
  await page.getByRole('button', { name: 'Stop at the mark' }).click();
  assert((await page.getByRole('alert').first().textContent()).includes('neither a position'), 'what is no mark is told');
  await page.goto(`${base}/crossings/${crossing}/stop`);
  await page.getByRole('button', { name: 'Stop at the mark' }).click();
  await until(async () => (await status(crossing)).state === 'stopped', 'stopped as of now');
  await page.getByRole('button', { name: 'Resume' }).click();
  await until(async () => (await status(crossing)).state === 'following', 'following again');
});

test('events are found, and the measures of a day are there', async (page) => {
  await page.goto(`${base}/events`);
  await page.getByLabel('Words or table name').fill('stop requested');
  await page.getByRole('button', { name: 'Find' }).click();
  await until(async () => (await page.locator('table.list tbody tr').count()) === 2, 'the two stops');
  const csv = await page.request.get(`${base}/events/export?format=csv&text=stop+requested`);
  assert((await csv.text()).trim().split('\r\n').length === 3, `a line of names and two events: ${await csv.text()}`);
  await page.goto(`${base}/crossings/${crossing}?minutes=1440`);
  await until(async () => (await page.locator('table.delays tbody tr', { hasText: 'since' }).textContent()).includes('ms'), 'delays since it was first measured', 130000);
  assert((await page.locator('table.delays tbody tr', { hasText: '24 h' }).count()) === 0, 'no figure for a window longer than what was measured');
  assert((await page.locator('svg.chart').first().locator('.mark').count()) > 0, 'events are marked on the chart');
});

test('pause and resume', async (page) => {
  await page.goto(`${base}/crossings/${crossing}`);
  await page.getByRole('button', { name: 'Pause' }).click();
  await until(async () => (await page.locator('h1').first().textContent()) && (await page.locator('.says').textContent()).includes('Paused by'), 'paused');
  assert((await page.getByRole('status').first().textContent()).includes('place is kept'), 'what it costs is said');
  await page.getByRole('button', { name: 'Resume' }).click();
  await until(async () => (await status(crossing)).state === 'following', 'following again');
});

test('a refused row is seen and understood', async (page) => {
  await page.goto(`${base}/connections/warehouse`);
  await page.getByLabel('Table of the row to refuse').fill('branch');
  await page.getByLabel('Key of the row to refuse').fill('11');
  await page.getByRole('button', { name: 'Refuse it' }).click();
  await bench(page, 'circulation', "UPDATE branch SET town = 'Refusal' WHERE id = 11");
  await until(async () => (await status(crossing)).state === 'faulted', 'faulted');
  await page.goto(`${base}/`);
  const needs = page.locator('.needs', { hasText: crossing });
  await until(async () => (await needs.count()) > 0, 'it stands under Needs you');
  const told = await needs.textContent();
  assert(told.includes('warehouse.branch 11') && told.includes('row refused (drill)') && told.includes('Remove the cause'), `what, where and what to do: ${told}`);
  await page.goto(`${base}/crossings/${crossing}`);
  await page.getByRole('link', { name: 'Look at the row' }).click();
  await until(async () => (await page.locator('.both').textContent()).includes('Refusal'), 'the row on both sides');
  assert((await page.locator('.differs').count()) === 2, 'the column that differs is marked on both sides');
  await page.goto(`${base}/connections/warehouse`);
  await page.getByRole('button', { name: 'Take it again' }).click();
  await page.goto(`${base}/crossings/${crossing}`);
  await page.getByRole('button', { name: 'Resume' }).first().click();
  await until(async () => (await status(crossing)).state === 'following', 'following again');
});

// A crossing of its own between two stand-ins, with one table, followed.
const post = async (path, body) => {
  const answer = await fetch(`${base}${path}`, { method: 'POST', headers: { 'content-type': 'application/json' }, body: JSON.stringify(body ?? {}) });
  assert(answer.ok, `${path}: ${answer.status} ${answer.ok ? '' : await answer.text()}`);
  return answer.json();
};
const run = (connection, statement) => post(`/api/v1/bench/${connection}`, { statement });
const own = async (name) => {
  for (const side of ['from', 'to']) { await post('/api/v1/connections', { name: `${name}-${side}`, kind: 'stand-in' }); }
  await run(`${name}-from`, "CREATE TABLE shelf (id INTEGER PRIMARY KEY, label TEXT, secret TEXT); INSERT INTO shelf VALUES (1, 'first', 'x')");
  await post('/api/v1/crossings', { name, purpose: 'copy', source: `${name}-from`, target: `${name}-to`, tables: { rules: [{ take: `${name}-from.*` }] } });
  await post(`/api/v1/crossings/${name}/start`);
  await until(async () => (await status(name)).state === 'following', `${name} following`);
};
// Ten seconds are promised for a cause. The full proofs insist on them; a short run on a machine that others use only prints what it took.
const timed = async (what, look, promised = 10000) => {
  const began = Date.now();
  await until(look, what);
  const took = Date.now() - began;
  console.log(`    ${what} after ${took} ms`);
  assert(took <= promised || !process.env.VESTIGE_STRICT, `${what} after ${took} ms, not within ${promised}`);
};
const within = (page, what, text, promised) => timed(what, async () => (await page.locator('#main').textContent()).includes(text), promised);

test('drills: each time the page names the cause, within the time it has for that', async (page) => {
  await own('drill');
  const now = await page.context().newPage();
  await now.goto(`${base}/crossings/drill`);
  const drill = async (side, act) => { await page.goto(`${base}/connections/drill-${side}`); await act(); };
  await drill('from', () => page.getByRole('button', { name: 'Cut the connection' }).click());
  await within(now, 'the cut connection is named', 'The connection to drill-from is cut (drill)');
  await drill('from', () => page.getByRole('button', { name: 'Restore the connection' }).click());
  await within(now, 'following again', 'Following.', 20000);

  await drill('to', async () => { await page.getByLabel('Delay each call').fill('900'); await page.getByRole('button', { name: 'Set the delay' }).click(); });
  await timed('the slow target is named', async () => { await run('drill-from', `INSERT INTO shelf (label) VALUES ('slow')`); return (await now.locator('.cause').count()) > 0 && /waiting for drill-to|drill-to has been at/.test(await now.locator('.cause').textContent()); });
  await drill('to', async () => { await page.getByLabel('Delay each call').fill('0'); await page.getByRole('button', { name: 'Set the delay' }).click(); });

  await drill('to', async () => { await page.getByLabel('Table of the row to refuse').fill('shelf'); await page.getByLabel('Key of the row to refuse').fill('1'); await page.getByRole('button', { name: 'Refuse it' }).click(); });
  await run('drill-from', "UPDATE shelf SET label = 'refused' WHERE id = 1");
  await within(now, 'the refused row is named', 'refused ~ of drill-to.shelf 1: row refused (drill)');
  await drill('to', () => page.getByRole('button', { name: 'Take it again' }).click());
  await now.getByRole('button', { name: 'Resume' }).first().click();
  await within(now, 'following once more', 'Following.', 20000);

  await drill('from', () => page.getByRole('button', { name: 'Stop the reader' }).click());
  await run('drill-from', "INSERT INTO shelf (label) VALUES ('never read')");
  await drill('from', () => page.getByRole('button', { name: 'Fill the log' }).click());
  await drill('from', () => page.getByRole('button', { name: 'Let it read' }).click());
  await within(now, 'the lost place is named', 'no longer holds what follows');
  await now.close();
  await until(async () => (await (await fetch(`${base}/api/v1/alerts`)).json()).some((alert) => alert.crossing === 'drill' && alert.kind === 'log loss'), 'it needs a person');
});

test('a column is added and renamed at the source, and its history says where and for whom', async (page) => {
  await own('history');

  // The page of a row stays open: the column arrives there with its value, on both sides.
  await page.goto(`${base}/crossings/history/tables/history-from.shelf?key=1`);
  await until(async () => (await page.locator('.both').getAttribute('data-same')) === 'true', 'both sides alike');
  await run('history-from', 'ALTER TABLE shelf ADD COLUMN height INTEGER; UPDATE shelf SET height = 1817 WHERE id = 1');
  await until(async () => (await page.locator('.both').textContent()).split('1817').length === 3, 'the column and its value on both sides');
  assert((await status('history')).tables.every((table) => table.state === 'following'), 'the table goes on');
  await run('history-from', 'ALTER TABLE shelf RENAME COLUMN height TO width');
  await page.goto(`${base}/connections/history-from`);
  await page.getByRole('link', { name: 'Schema history' }).click();
  await until(async () => { await page.reload(); return (await page.locator('main tbody tr').count()) === 2; }, 'both changes');
  const rows = await page.locator('main tbody tr').allTextContents();
  assert(rows[0].includes('Column height renamed to width.') && rows[1].includes('Column height added (INTEGER).'), rows.join('; '));
  assert(rows.every((row) => row.includes('exact') && row.includes('history')), 'certain, and replicated by the crossing');
  await page.getByRole('link', { name: 'history-from.shelf' }).first().click();
  await page.getByLabel('with').selectOption('1');
  await page.getByRole('button', { name: 'Compare' }).click();
  assert((await page.locator('tr.differs').textContent()).includes('width'), 'the column that is only in the later version');
  await run('history-from', 'ALTER TABLE shelf DROP COLUMN width');
  await until(async () => (await status('history')).tables[0].state === 'held', 'the table to wait');
  await page.getByRole('link', { name: 'history', exact: true }).click();
  await page.getByText('It happened at position').waitFor();
  await page.getByRole('link', { name: 'Compare the versions' }).click();
  await page.getByText('Column width dropped').first().waitFor();
});

test('one table of ten is loaded again while the other nine keep following', async (page) => {
  const [crossing, one] = ['circulation-to-warehouse', 'circulation.loan'];
  await until(async () => (await status(crossing)).tables.filter((table) => table.state === 'following').length === 10, 'ten tables');
  await page.goto(`${base}/crossings/${crossing}`);
  await page.getByRole('link', { name: 'Reload …' }).click();
  assert((await page.getByRole('checkbox').count()) === 10 && (await page.locator('input:checked').count()) === 0, 'ten to choose from, none chosen');
  await page.getByRole('button', { name: 'Continue …' }).click();
  assert((await page.getByRole('checkbox').count()) === 10, 'no choice does not mean all of them');
  await page.getByLabel(one).check();
  await page.getByRole('button', { name: 'Continue …' }).click();
  assert((await page.locator('#main').textContent()).includes('they replace those in one transaction'), 'what happens to the rows is said');
  await page.getByRole('button', { name: 'Reload', exact: true }).click();
  await page.waitForURL(`**/crossings/${crossing}/tables`);
  const others = [];
  await until(async () => {
    const { tables } = await status(crossing);
    others.push(...tables.filter((table) => table.source !== one && table.state !== 'following').map((table) => table.source));
    const events = await (await fetch(`${base}/api/v1/crossings/${crossing}/events?limit=20`)).json();
    return events.some((happened) => happened.text.startsWith(`Rows of ${one} replaced in place`)) && tables.every((table) => table.state === 'following');
  }, 'the rows to be replaced and the table to follow');
  assert(others.length === 0, `the others follow meanwhile: ${others.join(', ')}`);
});

test('a column that is added arrives while the page is open, and one that is dropped waits until it is agreed to', async (page) => {
  await own('grows');
  const reads = async (statement) => (await (await fetch(`${base}/api/v1/bench/grows-to`, { method: 'POST', headers: { 'content-type': 'application/json' }, body: JSON.stringify({ statement }) })).json()).rows;
  await page.goto(`${base}/crossings/grows/tables/grows-from.shelf?key=1`);
  await run('grows-from', "ALTER TABLE shelf ADD COLUMN room TEXT DEFAULT 'north'; UPDATE shelf SET room = 'south' WHERE id = 1");
  await until(async () => /room[\s\S]*south[\s\S]*south/.test(await page.locator('#sides').textContent()), 'the column on both sides of the open page');
  await run('grows-from', 'ALTER TABLE shelf DROP COLUMN room');
  await run('grows-from', "INSERT INTO shelf (id, label) VALUES (77, 'later')");
  await until(async () => (await status('grows')).tables[0].mayContinue, 'the table to wait');
  await page.goto(`${base}/crossings/grows/tables/grows-from.shelf`);
  await page.getByRole('link', { name: 'Agree …' }).click();
  const main = await page.locator('#main').textContent();
  assert(main.includes('DROP COLUMN "room"') && /1 value\s+of column\s+room/.test(main), `the statement and what is lost: ${main}`);
  const found = await axe(page).withTags(['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa']).analyze();
  assert(found.violations.length === 0, found.violations.map((v) => v.id + ' ' + v.nodes[0].html).join(' | '));
  await page.getByRole('button', { name: 'Agree and continue' }).click();
  assert((await page.getByRole('alert').first().textContent()).includes('the name typed is not'), 'the name is asked for');
  await page.getByLabel('Type grows to confirm').fill('grows');
  await page.getByRole('button', { name: 'Agree and continue' }).click();
  await page.waitForURL('**/crossings/grows/tables');
  await until(async () => (await reads("SELECT label FROM shelf WHERE id = 77")).length === 1, 'the row that was written meanwhile');
  assert((await reads("SELECT name FROM pragma_table_info('shelf') WHERE name = 'room'")).length === 0, 'the column is gone');
});

test('a table is added while another follows, and removed again with its copy', async (page) => {
  await own('more');
  await run('more-from', "CREATE TABLE loan (id INTEGER PRIMARY KEY, due TEXT); INSERT INTO loan VALUES (1, 'today'), (2, 'later')");
  await page.goto(`${base}/crossings/more/tables`);
  await page.getByRole('link', { name: 'Add tables …' }).click();
  await page.getByLabel('more-from.loan').check();
  await page.getByRole('button', { name: 'Continue …' }).click();
  const main = await page.locator('#main').textContent();
  assert(main.includes('CREATE TABLE "loan"') && /about 2\s+rows/.test(main) && main.includes('The other tables keep following'), `what it does is said first: ${main}`);
  let found = await axe(page).withTags(['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa']).analyze();
  assert(found.violations.length === 0, found.violations.map((v) => v.id + ' ' + v.nodes[0].html).join(' | '));
  await page.getByRole('button', { name: 'Add table', exact: true }).click();
  await page.waitForURL('**/crossings/more/tables');
  await until(async () => (await status('more')).tables.filter((table) => table.state === 'following').length === 2, 'both tables to follow');
  await until(async () => (await page.locator('#tables').textContent()).includes('more-from.loan'), 'the open page shows it');
  await page.goto(`${base}/crossings/more/tables/more-from.loan`);
  await page.getByRole('link', { name: 'Remove it from the crossing …' }).click();
  found = await axe(page).withTags(['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa']).analyze();
  assert(found.violations.length === 0, found.violations.map((v) => v.id + ' ' + v.nodes[0].html).join(' | '));
  assert(/more-to\.loan, 2\s+rows/.test(await page.locator('#main').textContent()), `the rows of the copy are counted: ${await page.locator('#main').textContent()}`);
  await page.getByLabel('Drop', { exact: true }).check();
  await page.getByRole('button', { name: 'Remove table', exact: true }).click();
  assert((await page.getByRole('alert').first().textContent()).includes('the name typed is not'), 'the name is asked for');
  await page.getByLabel('Drop', { exact: true }).check();
  await page.getByLabel('To drop, type more').fill('more');
  await page.getByRole('button', { name: 'Remove table', exact: true }).click();
  await page.waitForURL('**/crossings/more/tables');
  const there = await (await fetch(`${base}/api/v1/bench/more-to`, { method: 'POST', headers: { 'content-type': 'application/json' }, body: JSON.stringify({ statement: "SELECT name FROM sqlite_schema WHERE name = 'loan'" }) })).json();
  assert(there.rows.length === 0 && (await status('more')).tables.length === 1, 'the table left and its copy is gone');
});

test('a table is copied as it was before somebody changed it', async (page) => {
  await own('undone');
  await post('/api/v1/connections', { name: 'undone-past', kind: 'stand-in' });
  await run('undone-from', "INSERT INTO shelf VALUES (2, 'two', 'y'), (3, 'three', 'y')");
  await until(async () => (await status('undone')).tables[0].changes.insert === 2, 'the rows');
  const { positions } = await status('undone');
  await run('undone-from', "UPDATE shelf SET label = 'wrong'; DELETE FROM shelf WHERE id = 3");
  await until(async () => (await status('undone')).tables[0].changes.delete === 1, 'what was done by mistake');
  await page.goto(`${base}/crossings/undone/tables/undone-from.shelf`);
  await page.getByRole('link', { name: 'Copy this table as of a time …' }).click();
  await page.getByLabel('As of', { exact: true }).fill(positions.applied);
  await page.getByLabel('Target', { exact: true }).selectOption('undone-past');
  await page.getByRole('button', { name: 'Show what it takes' }).click();
  const main = await page.locator('#main').textContent();
  assert(main.includes('It can start') && /4\s+changes to take back/.test(main), `what it takes is said first: ${main}`);
  const found = await axe(page).withTags(['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa']).analyze();
  assert(found.violations.length === 0, found.violations.map((v) => v.id + ' ' + v.nodes[0].html).join(' | '));
  await page.getByLabel('Name of the crossing').fill('undone-before');
  await page.getByRole('button', { name: 'Copy as of then' }).click();
  await page.waitForURL('**/crossings/undone-before');
  await until(async () => (await page.locator('#main').textContent()).includes(`The rows are as of position ${positions.applied}`), 'the end, and of when the rows are');
  const rows = (await (await fetch(`${base}/api/v1/bench/undone-past`, { method: 'POST', headers: { 'content-type': 'application/json' }, body: JSON.stringify({ statement: 'SELECT id, label FROM shelf ORDER BY id' }) })).json()).rows;
  assert(rows.length === 3 && rows.every((row) => row[1] !== 'wrong'), `the rows of before: ${JSON.stringify(rows)}`);
});

test('a change of the treatment is tried on what was replicated before it is applied', async (page) => {
  await own('tried');
  await run('tried-from', "INSERT INTO shelf VALUES (2, 'two', 'y'), (3, 'three', 'y'); UPDATE shelf SET label = 'other' WHERE id = 2");
  await until(async () => (await status('tried')).tables[0].changes.update === 1, 'the changes');
  await page.goto(`${base}/crossings/import?change=tried`);
  const text = page.getByLabel('Text', { exact: true });
  await text.fill(`${await text.inputValue()}\ntreatment:\n- tables: tried-from.shelf\n  keep: id <> 3\n`);
  await page.getByRole('button', { name: 'Try on the past' }).click();
  await until(async () => /1 of 3\s+changes would have been applied differently/.test(await page.locator('#trial').textContent()), 'how many');
  assert(/1 left out, 2 same[\s\S]*left out: \+ 3/.test(await page.locator('#trial').textContent()), `which: ${await page.locator('#trial').textContent()}`);
  const found = await axe(page).withTags(['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa']).analyze();
  assert(found.violations.length === 0, found.violations.map((v) => v.id + ' ' + v.nodes[0].html).join(' | '));
  assert((await status('tried')).tables[0].changes.insert === 2, 'nothing was done');
});

test('after others changed the target, changes are applied again, and rows that did not change are backfilled', async (page) => {
  await own('mended');
  const rows = async () => JSON.stringify((await (await fetch(`${base}/api/v1/bench/mended-to`, { method: 'POST', headers: { 'content-type': 'application/json' }, body: JSON.stringify({ statement: 'SELECT id, label FROM shelf ORDER BY id' }) })).json()).rows);
  const { positions } = await status('mended');
  await run('mended-from', "INSERT INTO shelf VALUES (2, 'two', 'y'), (3, 'three', 'y'); UPDATE shelf SET label = 'other' WHERE id = 2");
  await until(async () => (await status('mended')).tables[0].changes.update === 1, 'the changes');
  const right = await rows();
  await run('mended-to', "UPDATE shelf SET label = 'wrong'; DELETE FROM shelf WHERE id = 3");
  await page.goto(`${base}/crossings/mended/tables`);
  await page.getByRole('link', { name: 'Apply again …' }).click();
  await page.getByLabel('mended-from.shelf').check();
  await page.getByLabel('Changes since').fill(positions.applied);
  await page.getByRole('button', { name: 'Show what it does' }).click();
  await page.getByRole('button', { name: 'Apply again', exact: true }).click();
  const events = async () => (await (await fetch(`${base}/api/v1/crossings/mended/events`)).json()).map((one) => one.text).join(' ');
  await until(async () => (await events()).includes('2 rows written, of which the target lacked 1'), 'what was done');
  assert(JSON.parse(await rows())[0][1] === 'wrong', 'a row that did not change stays as it is');

  await page.goto(`${base}/crossings/mended/tables/mended-from.shelf?key=1`);
  await page.getByRole('link', { name: 'Backfill rows or columns …' }).click();
  await page.getByLabel('First key').fill('one');
  await page.getByRole('button', { name: 'Start backfill' }).click();
  await until(async () => (await page.locator('main').textContent()).includes("'one' is no key"), 'the refusal');
  await page.getByLabel('First key').fill('1');
  await page.getByLabel('Before key').fill('2');
  await page.getByRole('button', { name: 'Start backfill' }).click();
  await until(async () => await rows() === right, 'the row is as at the source');
  await until(async () => (await events()).includes('1 row looked at, 1 written'), 'what was done is said');
});

test('a refused row waits, is edited, dropped and tried again', async (page) => {
  await own('waits');
  await page.goto(`${base}/crossings/waits/quarantine`);
  assert((await page.locator('#main').textContent()).includes('stops at the first row'), 'what happens without a rule is said');
  await page.getByLabel('quarantine it and continue').check();
  await page.getByLabel('Limit, rows').fill('5');
  await page.getByRole('button', { name: 'Save' }).click();
  await run('waits-to', "CREATE TRIGGER short BEFORE INSERT ON shelf WHEN length(NEW.label) > 8 BEGIN SELECT RAISE(ABORT, 'the label is too long'); END");
  await run('waits-from', "INSERT INTO shelf VALUES (2, 'far too long a label', 'y'), (3, 'also too long', 'y'), (4, 'fits', 'y')");
  await run('waits-from', "UPDATE shelf SET secret = 'z' WHERE id = 2");
  await until(async () => (await (await fetch(`${base}/api/v1/crossings/waits/quarantine`)).json()).total === 3, 'three changes wait');
  assert((await status('waits')).state === 'following', 'the crossing goes on');
  await page.goto(`${base}/crossings/waits/quarantine`);
  await page.getByRole('link', { name: 'waits-from.shelf 2' }).first().click();
  assert((await page.locator('#main').textContent()).includes('the label is too long') && (await page.locator('pre.sql').first().textContent()).includes('INSERT INTO'), 'the answer and the statement');
  await page.getByLabel('Value of label to try').fill('short');
  await page.getByRole('button', { name: 'Edit and try again' }).click();
  assert((await page.getByRole('status').first().textContent()).includes('1 change applied.'), `what came of it is said: ${await page.getByRole('status').first().textContent()}`);
  await until(async () => (await (await fetch(`${base}/api/v1/crossings/waits/quarantine`)).json()).total === 1, 'the edited row and what waited behind it');
  await page.goto(`${base}/crossings/waits/quarantine`);
  await page.getByRole('button', { name: 'Try again', exact: true }).click();
  assert(/1 change refused again: .*the label is too long/.test(await page.getByRole('status').first().textContent()), `a second refusal is said: ${await page.getByRole('status').first().textContent()}`);
  await page.getByRole('button', { name: 'Drop', exact: true }).click();
  assert((await page.getByRole('alert').first().textContent()).includes('No reason is given'), 'a reason is asked for');
  await page.getByLabel('Reason', { exact: true }).fill('made for a test');
  await page.getByRole('button', { name: 'Drop', exact: true }).click();
  await until(async () => (await (await fetch(`${base}/api/v1/crossings/waits/quarantine`)).json()).total === 0, 'nothing waits');
  await page.goto(`${base}/events?crossing=waits`);
  assert((await page.locator('#main').textContent()).includes('made for a test'), 'the reason is kept');

  // The target differs from the source there: that is told where one looks for it, and never as applied.
  await page.goto(`${base}/crossings/waits/quarantine`);
  const decided = page.getByRole('region', { name: 'Recently decided' });
  assert((await decided.locator('tbody tr').count()) === 2 && /edited.*label/s.test(await decided.textContent()), `both decisions: ${await decided.textContent()}`);
  await decided.getByRole('link', { name: 'waits-from.shelf 3' }).click();
  await until(async () => /was dropped in quarantine by .*\(made for a test\); it never reaches the target/s.test(await page.locator('#main').textContent()), 'the trace says so');
});

test('both sides are compared, a damaged row is seen and repaired, and that is taken back', async (page) => {
  await own('compared');
  await run('compared-from', "INSERT INTO shelf SELECT value, 'shelf ' || value, 'y' FROM generate_series(2, 900)".replace('generate_series(2, 900)', '(WITH RECURSIVE n (value) AS (SELECT 2 UNION ALL SELECT value + 1 FROM n WHERE value < 900) SELECT value FROM n)'));
  await until(async () => (await status('compared')).lag.current, 'all applied');
  await page.goto(`${base}/crossings/compared/reconcile`);
  assert((await page.locator('#main').textContent()).includes('Not compared yet'), 'nothing is claimed before');
  await page.getByLabel('on', { exact: true }).check();
  await page.getByLabel('Compare every table within, hours').fill('0.5');
  await page.getByRole('button', { name: 'Save' }).click();
  await until(async () => { await page.goto(`${base}/crossings/compared/reconcile`); return (await page.locator('#reconcile').textContent()).includes('Proved equal, every table'); }, 'proved by the rule');
  await page.getByLabel('off', { exact: true }).check();
  await page.getByRole('button', { name: 'Save' }).click();
  assert((await page.getByRole('status').first().textContent()).includes('Saved'), 'the rule is taken away');
  await page.getByRole('button', { name: 'Compare', exact: true }).click();
  await until(async () => (await page.locator('#reconciliation').textContent()).includes('1 table proved equal'), 'the proof, without a reload');
  assert((await status('compared')).positions.provedEqual !== null, 'the status says since where');
  await run('compared-to', "UPDATE shelf SET label = 'shelf seven' WHERE id = 7; DELETE FROM shelf WHERE id = 8; INSERT INTO shelf VALUES (5000, 'by another hand', 'x')");
  await page.getByRole('button', { name: /^Compare .* again$/ }).click();
  await until(async () => (await page.locator('#reconciliation').textContent()).includes('3 rows differ: 1 missing, 1 extra, 1 with other values'), 'what differs');
  await until(async () => { await page.reload(); return (await page.locator('svg.segments path.differing').count()) > 1; }, 'the map');
  await page.locator('svg.segments a').first().click();
  const rows = page.getByRole('region', { name: 'Rows that differ' });
  await until(async () => /from .*before|before/.test(await rows.getByRole('heading').textContent()) && (await page.locator('svg.segments .chosen').count()) === 1, 'the rows of one segment');
  assert((await rows.locator('tbody tr').count()) === 2 && !(await rows.textContent()).includes('5000'), 'only its own');
  await rows.getByRole('link', { name: 'all of the table' }).click();
  await page.getByRole('link', { name: '7', exact: true }).click();
  const row = page.getByLabel('The row on both sides');
  assert((await row.locator('mark').allTextContents()).join('').includes('seven') && (await row.textContent()).includes('Likely cause'), 'the characters that differ, and why');
  assert((await row.locator('pre.sql').textContent()).startsWith('UPDATE'), 'the statement');
  const address = page.url().split('?')[0];
  const summary = await (await fetch(`${base}/api/v1${new URL(address).pathname.replace('reconcile', 'reconciliations')}/summary.json`)).json();
  const header = JSON.parse(Buffer.from(summary.protected, 'base64url'));
  const key = await crypto.subtle.importKey('jwk', header.jwk, { name: 'ECDSA', namedCurve: 'P-256' }, false, ['verify']);
  const signed = (payload) => crypto.subtle.verify({ name: 'ECDSA', hash: 'SHA-256' }, key, Buffer.from(summary.signature, 'base64url'), Buffer.from(`${summary.protected}.${payload}`));
  assert(await signed(summary.payload) && !(await signed(summary.payload.replace('e', 'f'))), 'the signature holds by another library, and only for what was signed');
  assert(JSON.parse(Buffer.from(summary.payload, 'base64url')).tables[0].missing === 1, 'what was signed is the summary');
  const csv = await (await fetch(`${base}/api/v1${new URL(address).pathname.replace('reconcile', 'reconciliations')}/rows.csv`)).text();
  assert(csv.includes('shelf seven') && csv.split('\n')[0].startsWith('table,kind,key'), 'the rows as a file');
  await page.getByLabel(/all 3 listed/).check();
  await page.getByRole('button', { name: 'Repair …', exact: true }).click();
  await page.waitForURL(/repair/);
  assert(/inserts 1 row and updates 1 row/.test(await page.locator('#main').textContent()) && (await page.locator('#main').textContent()).includes('1 row only on the target stays'), 'what will be written, and what will not');
  await page.getByRole('button', { name: 'Repair 2 rows', exact: true }).click();
  assert(/Repaired 2 rows\.\s+1 row that only the target has left as it is/.test(await page.getByRole('status').first().textContent()), `what was done, and what not: ${await page.getByRole('status').first().textContent()}`);
  await until(async () => { await page.goto(`${base}/crossings/compared/reconcile`); return (await page.locator('#reconcile').textContent()).includes('1 row differs in 1 table'); }, 'the others repaired, and compared again');
  await page.getByRole('link', { name: '1 row differs', exact: true }).click();
  await page.getByLabel(/all 1 listed/).check();
  await page.getByRole('button', { name: 'Repair …', exact: true }).click();
  await page.getByLabel('Delete 1 row that only the target has').check();
  await page.getByRole('button', { name: 'Repair', exact: true }).click();
  assert((await page.getByRole('alert').first().textContent()).includes('only when you type the name compared'), 'a row is not deleted unasked');
  await page.getByLabel('Delete 1 row that only the target has').check();
  await page.getByLabel('To delete, type compared').fill('compared');
  await page.getByRole('button', { name: 'Repair', exact: true }).click();
  assert((await page.getByRole('status').first().textContent()).includes('Repaired 1 row.'), 'it is deleted once the name is typed');
  await until(async () => { await page.goto(`${base}/crossings/compared/reconcile`); return (await page.locator('#reconcile').textContent()).includes('Proved equal, every table'); }, 'all equal');
  await page.getByRole('button', { name: 'Undo' }).first().click();
  await until(async () => { await page.goto(`${base}/crossings/compared/reconcile`); return (await page.locator('#reconcile').textContent()).includes('1 row differs in 1 table'); }, 'the row is back, and found again at once');
  await page.goto(`${base}/trace?connection=compared-from&table=compared-from.shelf&key=7`);
  assert((await page.locator('#main').textContent()).includes("given the source's values"), 'the trace tells of the repair');
  await page.goto(`${base}/crossings/compared/reconcile`);
  await until(async () => { await page.goto(`${base}/reconcile`); return (await page.locator('tr', { hasText: 'compared' }).first().textContent()).includes('1 row differs'); }, 'found, for whoever looks at all crossings');
  await until(async () => { await page.goto(`${base}/alerts`); return (await page.locator('.needs', { hasText: 'compared' }).count()) > 0; }, 'an alert');
});

test('a row is traced to where it is, and why it is not there is said', async (page) => {
  await own('traced');
  await run('traced-from', "INSERT INTO shelf VALUES (2, 'second', 'y')");
  await run('traced-from', "UPDATE shelf SET label = 'deuxieme' WHERE id = 2");
  await until(async () => (await status('traced')).lag.current, 'all applied');
  await post('/api/v1/crossings/traced/pause');
  await run('traced-from', "UPDATE shelf SET label = 'zweite' WHERE id = 2");
  await page.goto(`${base}/trace`);
  await page.getByLabel('Source', { exact: true }).selectOption('traced-from');
  await page.getByLabel('Table', { exact: true }).fill('traced-from.shelf');
  await page.getByLabel("Row key").fill("2");
  const trace = page.getByRole('button', { name: 'Trace' });
  await until(async () => { await trace.click(); return (await page.locator('table.journey tbody tr').count()) === 3; }, 'three changes');
  const told = await page.locator('#main').textContent();
  assert(told.includes('waits to be applied. traced is paused by api') && told.includes('applied by') && told.includes('zweite'), `why it is not there: ${told.slice(0, 400)}`);
  assert((await page.locator('.both .differs').count()) === 2, 'the row on both sides');
  await page.locator('a[title="The whole transaction"]').first().click();
  assert((await page.locator('table.journey tbody tr').count()) === 1, 'its transaction');
  const api = await (await fetch(`${base}/api/v1/trace?connection=traced-from&table=traced-from.shelf&key=2`)).json();
  assert(api.changes.map((change) => change.crossings[0].stage).join() === 'applied,applied,waiting', 'the same over HTTP');
  await page.goto(`${base}/trace?connection=traced-from&table=traced-from.shelf&key=404`);
  assert((await page.locator('#main').textContent()).includes('on neither side'), 'a row that is nowhere');
});

test('an alert is acknowledged with a note, told to the stand-ins, and over', async (page) => {
  await own('alerted');
  await page.goto(`${base}/alerts`);
  await page.getByRole('button', { name: 'Notify the stand-ins' }).click();
  await run('alerted-to', "CREATE TRIGGER never BEFORE INSERT ON shelf BEGIN SELECT RAISE(ABORT, 'no more shelves'); END");
  await run('alerted-from', "INSERT INTO shelf VALUES (2, 'second', 'y')");
  const alert = page.locator('.needs', { hasText: 'alerted' }).first();
  await until(async () => { await page.goto(`${base}/alerts`); return (await alert.count()) > 0; }, 'the alert');
  await alert.getByLabel('Note').fill('Asked the keeper of the shelves');
  await alert.getByRole('button', { name: 'Acknowledge' }).click();
  assert((await page.locator('.needs', { hasText: 'Asked the keeper of the shelves' }).count()) === 1, 'who has seen it');
  await until(async () => { await page.goto(`${base}/alerts`); return (await page.locator('#main').textContent()).includes('email: alerted: faulted'); }, 'the mail at the stand-in');
  await run('alerted-to', 'DROP TRIGGER never');
  await post('/api/v1/crossings/alerted/resume');
  await until(async () => { await page.goto(`${base}/alerts`); return (await page.locator('section[aria-label="Over"]').textContent()).includes('no more shelves'); }, 'it is over', 80000);
  await page.getByLabel('lag: limit').fill('2 min');
  await page.getByLabel('Quiet hours from').fill('22:00');
  await page.getByLabel('to', { exact: true }).fill('06:30');
  await page.getByRole('button', { name: 'Save rules' }).click();
  const settings = await (await fetch(`${base}/api/v1/alerts/settings`)).json();
  assert(settings.rules.find((rule) => rule.kind === 'lag').limitSeconds === 120 && settings.quiet.to.startsWith('06:30'), 'the rules are in force');
});

test('a crossing runs by a schedule, and several are steered by their tag', async (page) => {
  await own('nightly-a');
  await own('nightly-b');
  for (const name of ['nightly-a', 'nightly-b']) {
    await page.goto(`${base}/crossings/${name}/pace`);
    await page.getByLabel('Tags, separated by commas').fill('nightly');
    await page.getByRole('button', { name: 'Save tags' }).click();
  }
  await page.getByLabel('at set times').check();
  await page.getByLabel('Cron expression').fill('every night');
  await page.getByRole('button', { name: 'Save schedule' }).click();
  assert((await page.getByRole('alert').first().textContent()).includes('is not a cron expression'), 'what is no cron expression is told');
  await page.getByLabel('at set times').check();
  await page.getByLabel('Cron expression').fill('0 3 1 1 *');
  await page.getByRole('button', { name: 'Save schedule' }).click();
  await until(async () => (await page.goto(`${base}/crossings/nightly-b`)) && (await page.locator('#main').textContent()).includes('The next run begins at'), 'the next run is told');
  await run('nightly-b-from', "INSERT INTO shelf VALUES (2, 'second', 'y')");
  await page.getByRole('button', { name: 'Run now' }).click();
  await until(async () => (await run('nightly-b-to', 'SELECT count(*) FROM shelf')).rows[0][0] === '2', 'the run carried it');
  await page.goto(`${base}/crossings?tag=nightly`);
  await page.getByLabel('all 2 that match').check();
  await page.getByRole('button', { name: 'Pause', exact: true }).click();
  await until(async () => (await status('nightly-a')).state === 'paused' && (await status('nightly-b')).state === 'paused', 'both paused');
  await page.goto(`${base}/crossings/nightly-b/history`);
  const runs = await page.locator('table.list tbody tr').allTextContents();
  assert(runs.length >= 2 && runs.some((run) => run.includes('all that was committed when it began is applied')) && runs[runs.length - 1].includes('begun') === false, `its runs: ${runs.join(' | ')}`);
  const outcomes = await post('/api/v1/crossings/steer', { action: 'resume', tag: 'nightly' });
  assert(outcomes.length === 2 && outcomes.every((outcome) => outcome.done), 'both resumed over HTTP');
});

test('the fleet is narrowed, ordered and grouped, and its address says how', async (page) => {
  await own('narrow-a');
  await own('narrow-b');
  const rows = page.locator('#fleet a.row');
  const words = async () => (await rows.allTextContents()).join(' ');
  await page.goto(`${base}/?find=narrow-`);
  assert((await rows.count()) === 2, `two are found: ${await words()}`);
  assert((await page.locator('#fleet tr.more').count()) === 2, 'two rows are unfolded');
  await page.getByLabel('Order').selectOption('by name');
  await until(async () => page.url().includes('sort=name') && page.url().includes('find=narrow-'), 'the order is in the address');
  assert((await words()) === 'narrow-a narrow-b', 'by name');
  await post('/api/v1/crossings/narrow-b/pause');
  await until(async () => (await status('narrow-b')).state === 'paused', 'paused');
  await page.goto(`${base}/?find=narrow-`);
  assert((await words()) === 'narrow-b narrow-a', 'what is paused is worse than what follows');
  await page.getByLabel('Headline').selectOption('paused');
  await until(async () => page.url().includes('word=paused'), 'the headline is in the address');
  await page.reload();
  assert((await words()) === 'narrow-b', 'only what is paused');
  await page.goto(`${base}/?find=narrow-&word=nothing+of+the+kind`);
  assert((await page.locator('#fleet').textContent()).includes('No crossing matches'), 'nothing matches');
  await page.goto(`${base}/`);
  assert((await page.locator('#fleet .compact table').count()) === 2, 'many crossings have compact rows');
  await page.waitForTimeout(2500);
  assert((await page.locator('#fleet .compact table').count()) === 2 && (await page.locator('#fleet-says').count()) === 1, 'it stays so while it is live');
});

test('everything is found and reached by keyboard', async (page) => {
  await page.goto(`${base}/`);
  await page.keyboard.press('/');
  await page.keyboard.type('patron_cat');
  await until(async () => (await page.locator('#found a').count()) > 0 && (await page.locator('#found a').first().getAttribute('href')).includes('patron_category'), 'the table is found, and what a part of its name found before is gone');
  await reach(page, /tables\/circulation\.patron_category/, () => page.keyboard.press('Enter'));
  await goTo(page, 'c', /\/crossings$/);
  await reach(page, /\/crossings\/[a-z-]+$/, async () => {
    await page.keyboard.press('j');
    await page.keyboard.press('j');
    assert(await page.evaluate(() => document.activeElement.classList.contains('row')), 'a row has the focus');
    await page.keyboard.press('Enter');
  });
  await page.keyboard.press('?');
  assert(await page.getByRole('dialog').isVisible(), 'the shortcuts are shown');
  await page.keyboard.press('Escape');
  assert(!(await page.getByRole('dialog').isVisible()), 'and go again');
});

test('pages read and forms submit without JavaScript', async (_, browser) => {
  const context = await browser.newContext({ javaScriptEnabled: false });
  const page = await context.newPage();
  await page.goto(`${base}/`);
  assert((await page.locator('main').textContent()).includes(crossing), 'the fleet reads');
  await page.goto(`${base}/find?q=loan`);
  assert((await page.locator('main').textContent()).includes('circulation.loan'), 'finding works');
  await bench(page, 'circulation', 'SELECT count(*) AS n FROM branch');
  assert((await page.locator('#result').textContent()).includes('24'), 'the bench answers');
  await page.goto(`${base}/crossings/new?show=plan&source=circulation&target=ledger&tables=circulation.title&name=t`);
  assert((await page.locator('#consequence').textContent()).includes('rows to load'), 'the plan is shown');
  await context.close();
});

// The user guide's section on a PostgreSQL server, line by line.
test('a server is connected, prepared and followed, as the guide says', async (page) => {
  const server = await startServer();
  try {
    server.psql('postgres', "ALTER SYSTEM SET wal_level = 'logical'", 'CREATE DATABASE books', 'CREATE DATABASE books_copy', 'SELECT pg_reload_conf()');
    server.psql('postgres', "CREATE ROLE vestige_reader LOGIN PASSWORD 'made up'", "CREATE ROLE vestige_writer LOGIN PASSWORD 'made up'");
    server.psql('books', 'CREATE TABLE title (id int PRIMARY KEY, name text)', "INSERT INTO title VALUES (1, 'The first')", 'CREATE TABLE author (id int PRIMARY KEY)', 'INSERT INTO author VALUES (7)');
    const connect = async (name, database, user, role) => {
      await page.goto(`${base}/connections`);
      await page.locator('#postgresql-name').fill(name);
      await page.getByLabel('Host').fill('127.0.0.1');
      await page.getByLabel('Port').fill(String(server.port));
      await page.getByLabel('Database').fill(database);
      await page.getByLabel('User', { exact: true }).fill(user);
      await page.getByLabel('Password').fill('made up');
      await page.getByRole('button', { name: 'Save and test' }).click();
      await page.waitForURL(`${base}/connections/${name}`);
      assert(!(await said()).includes('As a source'), 'nothing is asked of a role that nobody wants');
      await page.getByRole('link', { name: `Check as a ${role}` }).click();
    };
    const said = async () => page.locator('main').textContent();
    const sheet = (title) => page.locator('section.sheet', { has: page.getByRole('heading', { name: title, exact: true }) });
    const lacks = async (title) => sheet(title).locator('[aria-label="problem"]').count();
    const prepare = async (title, database) => server.file(database, await sheet(title).locator('pre').first().textContent());

    await connect('books', 'books', 'vestige_reader', 'source');
    assert((await said()).includes('waits for a restart'), `a setting that was written and is not in force is said to wait: ${await said()}`);
    assert(!(await page.content()).includes('made up'), 'the password is not shown');
    assert(await lacks('As a source') > 0, 'something is missing at first');
    server.restart();
    await prepare('Preparation as a source', 'books');
    await until(async () => { await page.reload(); return (await lacks('As a source')) === 0; }, `every line as a source: ${await sheet('As a source').textContent()}`);
    await connect('books-copy', 'books_copy', 'vestige_writer', 'target');
    await prepare('Preparation as a target', 'books_copy');
    await until(async () => { await page.reload(); return (await lacks('As a target')) === 0; }, `every line as a target: ${await sheet('As a target').textContent()}`);

    await page.goto(`${base}/crossings/new`);
    await page.getByLabel('Name', { exact: true }).fill('titles');
    await page.getByLabel('Source', { exact: true }).selectOption('books');
    await page.getByLabel('Target', { exact: true }).selectOption('books-copy');
    for (const table of ['title', 'author']) { await page.locator('label', { hasText: `public.${table}` }).getByRole('checkbox').check(); }
    await until(async () => (await page.locator('#consequence').textContent()).includes('CREATE TABLE'), 'the plan').catch(async (error) => { throw new Error(`${error.message}: ${await said()}`); });
    await page.getByRole('button', { name: 'Start', exact: true }).click();
    await page.waitForURL(/crossings\/titles$/);
    await until(async () => (await status('titles')).state === 'following', 'following');
    server.psql('books', "UPDATE title SET name = 'Changed'");
    await page.goto(`${base}/crossings/titles/tables/public.title?key=1`);
    await until(async () => (await page.locator('.both').textContent()).split('Changed').length === 3, 'the change on both sides');
    assert(server.psql('books_copy', 'SELECT name FROM title') === 'Changed', 'the server itself says so');

    // Where the source records its schema changes, two columns that swap their names are carried.
    await page.goto(`${base}/connections/books`);
    await page.getByText('Optional: record schema changes').click();
    server.file('books', await page.locator('#script-optional-source').textContent());
    await until(async () => { await page.reload(); return (await said()).includes('an event trigger writes each one at its place'); }, `the event trigger: ${await sheet('As a source').textContent()}`);
    server.psql('books', 'ALTER TABLE title ADD sub text', "UPDATE title SET sub = 'Sub'", 'BEGIN', 'ALTER TABLE title RENAME name TO x', 'ALTER TABLE title RENAME sub TO name', 'ALTER TABLE title RENAME x TO sub', 'COMMIT', 'INSERT INTO title VALUES (2)');
    await until(async () => server.psql('books_copy', "SELECT string_agg(to_jsonb(t)::text, '; ' ORDER BY id) FROM title t") === '{"id": 1, "sub": "Changed", "name": "Sub"}; {"id": 2, "sub": null, "name": null}', 'the columns swapped on the copy').catch(async (error) => { throw new Error(`${error.message}: ${JSON.stringify((await status('titles')).tables)}`); });
    await page.goto(`${base}/connections/books/schema/public.title`);
    await until(async () => { await page.reload(); return (await said()).includes('ALTER TABLE title RENAME x TO sub'); }, `the statement in the history: ${await said()}`);

    await page.goto(`${base}/crossings/titles/remove-tables?table=public.author`);
    await page.getByLabel('Drop; it can be restored for').check();
    await page.getByLabel('To drop, type titles').fill('titles');
    await page.getByRole('button', { name: 'Remove table' }).click();
    await page.waitForURL(/crossings\/titles\/tables$/);
    assert(server.psql('books_copy', "SELECT to_regclass('author') IS NULL") === 't', 'the copy is away');
    await page.getByRole('link', { name: 'books-copy' }).click();

    for (const path of ['/connections/books-copy', '/crossings/titles/remove-tables?table=public.title', '/connections/books', '/crossings/titles']) {
      await page.goto(base + path);
      const found = await axe(page).withTags(['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa']).analyze();
      assert(found.violations.length === 0, `${path}: ${found.violations.map((v) => v.id + ' ' + v.nodes[0].html).join(' | ')}`);
    }

    await page.goto(`${base}/connections/books-copy`);
    await sheet('Dropped tables').getByRole('button', { name: 'Restore' }).click();
    await until(async () => (await said()).includes('Restored: public.author'), `restored: ${await said()}`);
    assert(server.psql('books_copy', 'SELECT id FROM author') === '7', 'the copy is back with its rows');

    await fetch(`${base}/api/v1/crossings/titles/stop`, { method: 'POST', headers: { 'content-type': 'application/json' }, body: '{"manner":"now"}' });
    const removed = await fetch(`${base}/api/v1/crossings/titles`, { method: 'DELETE', headers: { 'If-Match': (await fetch(`${base}/api/v1/crossings/titles`)).headers.get('etag') } });
    assert(removed.ok, `removed: ${removed.status}`);
    await until(async () => server.psql('books', 'SELECT count(*) FROM pg_replication_slots') === '0', 'nothing kept on the source');
  } finally {
    server.end();
  }
});

// Buttons and fields fade from one colour to the other: they are looked at when that is over, however slow the machine. Those that a closed
// section hides are not drawn, and so never come to the end.
const faded = (page) => page.evaluate(async () => {
  await new Promise((drawn) => requestAnimationFrame(() => requestAnimationFrame(drawn)));
  await Promise.allSettled(document.getAnimations().filter((animation) => animation instanceof CSSTransition && animation.effect.target.checkVisibility()).map((fade) => fade.finished));
});

const views = ['/', '/crossings', '/crossings/new?show=1&source=circulation&target=warehouse&tables=circulation.title', '/connections', '/connections/circulation', '/connections/circulation/tables/circulation.patron', '/connections/history-from/schema', '/connections/history-from/schema/history-from.shelf', '/connections/circulation/schema', '/bench/circulation',
  `/crossings/${crossing}`, `/crossings/${crossing}/tables`, `/crossings/${crossing}/tables/circulation.patron?key=7`, `/crossings/${crossing}/events`, '/crossings/all-to-depot/treatment', '/crossings/new?show=plan&name=tried&source=circulation&target=warehouse&rules=circulation.*&treatment=-%20tables%3A%20circulation.patron%0A%20%20keep%3A%20home_brnch%20%3C%203',
  `/crossings/${crossing}/definition`, `/crossings/import?from=${crossing}`, `/crossings/${crossing}/stop`, `/crossings/${crossing}/reload`, `/crossings/${crossing}/rewind?table=circulation.loan&since=${new Date(Date.now() - 60_000).toISOString()}`, `/crossings/${crossing}/backfill?table=circulation.loan`, '/crossings/fines-to-ledger/remove', '/?group=tag&sort=name', '/crossings/fines-to-ledger', '/crossings/fines-to-ledger/definition', '/crossings/fines-to-ledger/start', '/crossings/import?change=all-to-depot', '/find?q=fine', '/events', '/events?from=noon', `/crossings/${crossing}/quarantine`, '/crossings/waits/quarantine', `/crossings/${crossing}/reconcile`, '/crossings/compared/reconcile', 'found:compared', '/reconcile', `/crossings/${crossing}/pace`, `/crossings/${crossing}/history`, '/crossings?tag=nightly', '/trace', '/trace?connection=traced-from&table=traced-from.shelf&key=2', '/alerts', '/you', '/guide', '/guide/treatment', '/guide?find=quarantine', 'repair:compared', '/crossings/new?name=tried&source=circulation&target=ledger&rules=circulation.patron&show=plan', '/nowhere'];
for (const path of views) {
  looks.push([`axe finds nothing on ${path}, light and dark`, async (page) => {
    const errors = [];
    page.on('console', (message) => message.type() === 'error' && !message.text().includes('404') && errors.push(message.text()));
    // A comparison's address holds its id.
    const of = /^(found|repair):/.test(path) ? path.split(':')[1] : null;
    const comparison = of && (await (await fetch(`${base}/api/v1/crossings/${of}/reconciliations`)).json()).find((one) => one.tables.some((table) => table.missing + table.extra + table.differing > 0));
    const answer = await page.goto(base + (of ? `/crossings/${of}/reconcile/${comparison.id}${path.startsWith('repair') ? '/repair' : '?row=0'}` : path));
    assert(answer.status() === (path === '/nowhere' ? 404 : 200), `${path} answers ${answer.status()}`);
    await page.waitForTimeout(300);
    const light = await axe(page).withTags(['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa']).analyze();

    // In the dark nothing but colours is another.
    await page.emulateMedia({ colorScheme: 'dark' });
    await faded(page);
    const dark = await axe(page).withRules(['color-contrast', 'link-in-text-block']).analyze();
    const told = (scheme, found) => found.violations.map((v) => `${scheme}: ${v.id}: ${v.nodes.slice(0, 3).map((n) => `${n.html.slice(0, 140)} [${(n.any[0] ?? n.all[0])?.message ?? ''}]`).join(' | ')}`);
    const all = [...told('light', light), ...told('dark', dark)];
    assert(errors.length === 0, `the console says: ${errors.join('; ')}`);
    assert(all.length === 0, all.join('\n      '));
  }]);
}

// What never ends is told as well: no task of a person takes so long, even where the machine is five times slower.
const longest = 600_000;
const bounded = async (limit, work) => {
  let timer;
  const over = new Promise((_, refuse) => { timer = setTimeout(() => refuse(new Error(`not over after ${limit / 1000} s`)), limit); });
  try { await Promise.race([work, over]); } finally { clearTimeout(timer); }
};

const only = process.argv[3];
const browser = await launch(chromium);
let passed = 0;
let failed = 0;
const visitor = () => browser.newContext({ colorScheme: 'light', viewport: { width: 1280, height: 800 } });
const one = async ([name, run], context) => {
  const page = await context.newPage();
  page.setDefaultTimeout(patience);

  // A form is answered by a redirect, so that Back and reload never ask to send it again.
  const answered = [];
  page.on('response', (response) => {
    const request = response.request();
    if (request.method() === 'POST' && request.resourceType() === 'document' && response.status() < 300) { answered.push(request.url()); }
  });
  const began = Date.now();
  const took = () => `${((Date.now() - began) / 1000).toFixed(1)} s`;
  try {
    await bounded(longest, run(page, browser));
    assert(answered.length === 0, `a form is answered without a redirect: ${answered.join(' ')}`);
    passed += 1;
    console.log(`ok  ${name} (${took()})`);
  } catch (error) {
    failed += 1;
    console.log(`NOT ${name} (${took()})\n      ${error.message}`);
  }
  await page.close();
};
const chosen = (all) => all.filter(([title]) => !only || title.includes(only));

// What a person does, one after the other, each as a new visitor; then each page is only looked at, two at a time.
for (const task of chosen(tests)) {
  const context = await visitor();
  await one(task, context);
  await context.close();
}

const left = chosen(looks);
await Promise.all([0, 1].map(async () => {
  const context = await visitor();
  while (left.length > 0) { await one(left.shift(), context); }
}));
await browser.close();
console.log(`${passed} passed, ${failed} failed`);
process.exit(failed === 0 ? 0 : 1);
