// A private PostgreSQL server in a temporary folder, on a free loopback port, run by an unprivileged user, as a packaged
// installation leaves it: nothing is set that the user guide does not say.
import { execFileSync } from 'node:child_process';
import { appendFileSync, existsSync, mkdtempSync, readdirSync, rmSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';

const root = '/usr/lib/postgresql';
const programs = readdirSync(root).sort().map((version) => join(root, version, 'bin')).filter((bin) => existsSync(join(bin, 'initdb'))).at(-1);

const freePort = () => new Promise((tell) => {
  const server = createServer().listen(0, '127.0.0.1', () => { const { port } = server.address(); server.close(() => tell(port)); });
});

export const startServer = async () => {
  const folder = mkdtempSync(join(tmpdir(), 'vestige-pg-'));
  const data = join(folder, 'data');
  const isRoot = process.getuid() === 0;
  const run = (program, ...args) => isRoot
    ? execFileSync('setpriv', ['--reuid=postgres', '--regid=postgres', '--clear-groups', join(programs, program), ...args], { cwd: '/', encoding: 'utf8', stdio: ['ignore', 'pipe', 'pipe'] })
    : execFileSync(join(programs, program), args, { encoding: 'utf8', stdio: ['ignore', 'pipe', 'pipe'] });
  if (isRoot) { execFileSync('chown', ['postgres', folder]); }
  const port = await freePort();
  run('initdb', '-D', data, '-A', 'scram-sha-256', '--auth-local=trust', '-U', 'postgres', '-E', 'UTF8', '--locale=C.UTF-8');
  appendFileSync(join(data, 'postgresql.conf'), `listen_addresses='127.0.0.1'\nport=${port}\nunix_socket_directories='${folder}'\n`);
  const control = (...args) => run('pg_ctl', '-D', data, '-l', join(folder, 'log'), '-w', '-t', '240', ...args);
  control('start');
  return {
    port,
    restart: () => control('-m', 'fast', 'restart'),
    psql: (database, ...statements) => run('psql', '-X', '-q', '-A', '-t', '-v', 'ON_ERROR_STOP=1', '-h', folder, '-p', String(port), '-U', 'postgres', '-d', database, ...statements.flatMap((statement) => ['-c', statement])).trim(),
    file: (database, script) => {
      const path = join(folder, 'script.sql');
      writeFileSync(path, script, { mode: 0o644 });
      return run('psql', '-X', '-q', '-v', 'ON_ERROR_STOP=1', '-h', folder, '-p', String(port), '-U', 'postgres', '-d', database, '-f', path);
    },
    end: () => { control('-m', 'immediate', 'stop'); rmSync(folder, { recursive: true, force: true }); },
  };
};
