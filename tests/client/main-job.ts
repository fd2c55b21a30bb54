// The main job by a client whose types are made of the OpenAPI document alone: connections, a crossing, plan, start, status,
// comparison, stop. That this compiles is half of the test.
import createClient from 'openapi-fetch';
import type { components, paths } from './built/schema.d.ts';

type Status = components['schemas']['StatusDocument'];

const [base] = process.argv.slice(2);
if (!base) { throw new Error('Give the address of Vestige.'); }
const client = createClient<paths>({ baseUrl: base });
const name = 'typed-copy';

let passed = 0;
let failed = 0;
const check = async (what: string, run: () => Promise<void>) => {
  try {
    await run();
    passed += 1;
    console.log(`ok  ${what}`);
  } catch (error) {
    failed += 1;
    console.log(`FAILED  ${what}: ${error instanceof Error ? error.message : error}`);
  }
};

const expect = (holds: boolean, what: string) => { if (!holds) { throw new Error(what); } };

/** What was answered; a refusal is told as Vestige words it. */
const answered = <T>(answer: { data?: T; error?: components['schemas']['ProblemDocument'] }): T => {
  if (answer.data === undefined) { throw new Error(`${answer.error?.detail} ${answer.error?.remedy ?? ''}`); }
  return answer.data;
};

const until = async (what: string, holds: (status: Status) => boolean): Promise<Status> => {
  for (let tries = 0; tries < 600; tries += 1) {
    const status = answered(await client.GET('/api/v1/crossings/{name}/status', { params: { path: { name } } }));
    if (status.state === 'faulted') { throw new Error(status.fault?.what ?? 'faulted'); }
    if (holds(status)) { return status; }
    await new Promise((tell) => { setTimeout(tell, 200); });
  }
  throw new Error(`waited in vain for ${what}`);
};

await check('connections are created and tested', async () => {
  for (const connection of ['typed-source', 'typed-target']) {
    const made = answered(await client.POST('/api/v1/connections', { body: { name: connection, kind: 'stand-in', settings: {} } }));
    expect(made.name === connection && !made.hasSecret, `made ${made.name}`);
    const steps = answered(await client.POST('/api/v1/connections/{name}/test', { params: { path: { name: connection } } }));
    expect(steps.length > 0 && steps.every((step) => step.ok), 'a step of the test fails');
  }
  const bench = answered(await client.POST('/api/v1/bench/{connection}', {
    params: { path: { connection: 'typed-source' } },
    body: { statement: "CREATE TABLE branch (id INTEGER PRIMARY KEY, town TEXT); INSERT INTO branch VALUES (1, 'Millbrook'), (2, 'Easton')" },
  }));
  expect(bench.changes.length > 0, 'nothing was changed');
  const readiness = answered(await client.GET('/api/v1/connections/{name}/readiness', { params: { path: { name: 'typed-source' }, query: { role: 'source' } } }));
  expect(readiness.every((line) => line.ok), 'the source is not ready');
  const tables = answered(await client.GET('/api/v1/connections/{name}/tables', { params: { path: { name: 'typed-source' } } }));
  expect(tables[0]?.table === 'branch' && tables[0].key[0] === 'id', 'the table is not there');
});

await check('a crossing is planned and started, and follows', async () => {
  const made = answered(await client.POST('/api/v1/crossings', {
    body: { name, purpose: 'copy', source: 'typed-source', target: 'typed-target', tables: { rules: [{ take: 'typed-source.*' }], future: true } },
  }));
  expect(made.name === name, 'another crossing was made');
  const plan = answered(await client.POST('/api/v1/crossings/{name}/plan', { params: { path: { name } } }));
  expect(plan.ready && plan.tables[0]?.source === 'typed-source.branch', 'the plan is not ready');
  answered(await client.POST('/api/v1/crossings/{name}/start', { params: { path: { name } } }));
  await until('following', (status) => status.state === 'following');
  answered(await client.POST('/api/v1/bench/{connection}', { params: { path: { connection: 'typed-source' } }, body: { statement: "UPDATE branch SET town = 'Weir' WHERE id = 2" } }));
  const status = await until('the update', (now) => (now.tables[0]?.changes.update ?? 0) === 1);
  expect(status.lag !== null && status.positions.applied !== null, 'lag and position are not told');
});

await check('both sides are compared', async () => {
  const { id } = answered(await client.POST('/api/v1/crossings/{name}/reconciliations', { params: { path: { name } }, body: {} }));
  for (let tries = 0; tries < 300; tries += 1) {
    const found = answered(await client.GET('/api/v1/crossings/{name}/reconciliations/{id}', { params: { path: { name, id } } }));
    if (found.state === 'done') {
      expect(found.equal && found.tables[0]?.same === 2, 'the sides differ');
      return;
    }
    await new Promise((tell) => { setTimeout(tell, 200); });
  }
  throw new Error('the comparison does not end');
});

await check('a definition is changed by its version only', async () => {
  const read = await client.GET('/api/v1/crossings/{name}', { params: { path: { name } } });
  const tag = read.response.headers.get('etag') ?? '';
  const definition = answered(read) as components['schemas']['CrossingDefinition'];
  const change = (version: string) => client.PUT('/api/v1/crossings/{name}', {
    params: { path: { name }, header: { 'If-Match': version }, query: { confirm: 'true' } },
    body: { ...definition, tags: ['typed'] },
  });
  const stale = await change('"999"');
  expect(stale.response.status === 412 && stale.error?.field === 'If-Match', `a stale version was answered with ${stale.response.status}`);
  answered(await change(tag));
});

await check('a refusal is a problem with its type and what to do', async () => {
  const refused = await client.POST('/api/v1/crossings/{name}/stop', { params: { path: { name } }, body: { manner: 'now', mark: { asOfNow: true } } });
  expect(refused.response.status === 422 && refused.error?.type.endsWith('/stop') === true && (refused.error.remedy?.length ?? 0) > 0, JSON.stringify(refused.error));
});

await check('it stops at a mark', async () => {
  answered(await client.POST('/api/v1/crossings/{name}/stop', { params: { path: { name } }, body: { manner: 'drain', mark: { asOfNow: true } } }));
  await until('stopped', (status) => status.state === 'stopped');
  const gone = await client.DELETE('/api/v1/crossings/{name}', { params: { path: { name }, header: { 'If-Match': '*' } } });
  expect(gone.response.status === 204, `${gone.response.status}`);
  for (const connection of ['typed-source', 'typed-target']) {
    expect((await client.DELETE('/api/v1/connections/{name}', { params: { path: { name: connection } } })).response.status === 204, `${connection} stays`);
  }
});

console.log(`${passed} passed, ${failed} failed`);
process.exitCode = failed === 0 ? 0 : 1;
