import { execFileSync } from 'node:child_process';
import { copyFileSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { request, type RequestOptions } from 'node:https';
import { connect } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { connect as connectTls } from 'node:tls';
import { afterAll, beforeAll, describe, expect, inject, test } from 'vitest';
import { Rig } from '../rig/rig.ts';

let rig: Rig;
let folder: string;
const file = (name: string): string => join(folder, name);

/** A certificate for this machine, made for the test. */
function makeCertificate(name: string): void {
  execFileSync(
    'openssl',
    [
      ...['req', '-x509', '-newkey', 'ec', '-pkeyopt', 'ec_paramgen_curve:P-256', '-nodes', '-days', '30'],
      ...['-subj', `/CN=${name}`, '-addext', 'subjectAltName=IP:127.0.0.1'],
      ...['-keyout', file(`${name}.key`), '-out', file(`${name}.pem`)],
    ],
    { stdio: 'pipe' },
  );
}
const put = (name: string): void => {
  copyFileSync(file(`${name}.key`), file('web.key'));
  copyFileSync(file(`${name}.pem`), file('web.pem'));
};

beforeAll(async () => {
  folder = mkdtempSync(join(tmpdir(), 'halvix-https-'));
  for (const name of ['first', 'second']) makeCertificate(name);
  put('first');
  rig = await Rig.make('web', inject('postgres'));
  await rig.system.loadDemo();
  await rig.startEngine();
  rig.system.start('web', {
    HALVIX_WEB_ORIGIN: `https://127.0.0.1:${rig.ports.web}`,
    HALVIX_HTTPS_CERTIFICATE: file('web.pem'),
    HALVIX_HTTPS_KEY: file('web.key'),
    HALVIX_HTTP_REQUEST_SECONDS: '2',
  });
  await rig.until('the web answers', async () => (await ask('/healthz').catch(() => null))?.status === 200);
});
afterAll(async () => {
  await rig.stop();
  rmSync(folder, { recursive: true });
});

interface Answer {
  status: number;
  headers: Record<string, string | string[] | undefined>;
  text: string;
}

function ask(path: string, options: RequestOptions = {}, body?: string): Promise<Answer> {
  return new Promise((resolve, reject) => {
    const url = `https://127.0.0.1:${rig.ports.web}${path}`;
    const sent = request(url, { rejectUnauthorized: false, agent: false, ...options }, (answer) => {
      let text = '';
      answer.on('data', (octets) => (text += String(octets)));
      answer.on('end', () => resolve({ status: answer.statusCode ?? 0, headers: answer.headers, text }));
    });
    sent.on('error', reject);
    sent.end(body);
  });
}

const shownName = (): Promise<string> =>
  new Promise((resolve, reject) => {
    const socket = connectTls({ host: '127.0.0.1', port: rig.ports.web, rejectUnauthorized: false }, () => {
      resolve(String(socket.getPeerCertificate().subject.CN));
      socket.destroy();
    });
    socket.on('error', reject);
  });

describe('https of its own', () => {
  test('the cookie belongs to this host alone, and browsers are told to stay with https', async () => {
    const origin = `https://127.0.0.1:${rig.ports.web}`;
    const answer = await ask(
      '/sign-in',
      {
        method: 'POST',
        headers: { origin, 'content-type': 'application/x-www-form-urlencoded', 'content-length': 36 },
      },
      'name=operator&password=operator-demo',
    );
    const [cookie] = answer.headers['set-cookie'] as string[];
    expect(cookie).toMatch(/^__Host-halvix_session=.*; Path=\/; HttpOnly; Secure; SameSite=Strict$/);
    expect(answer.headers['strict-transport-security']).toMatch(/^max-age=\d{8}$/);
    const page = await ask('/run', { headers: { cookie: cookie.split(';')[0] } });
    expect(page.status).toBe(200);
    expect(page.text).toContain('HLM-F1');
  });

  test('a key that is not forgotten, or a cipher that can be tampered with, is not agreed on', async () => {
    const agreed = (ciphers: string): Promise<string> =>
      new Promise((resolve) => {
        const options = {
          port: rig.ports.web,
          host: '127.0.0.1',
          rejectUnauthorized: false,
          maxVersion: 'TLSv1.2',
        } as const;
        const socket = connectTls({ ...options, ciphers }, () => {
          resolve(socket.getCipher().name);
          socket.destroy();
        });
        socket.on('error', () => resolve('none'));
      });
    const AEAD = 'ECDHE-ECDSA-AES128-GCM-SHA256';
    expect([
      await agreed(AEAD),
      await agreed('ECDHE-ECDSA-AES128-SHA'),
      await agreed(`ECDHE-ECDSA-AES128-SHA:${AEAD}`),
    ]).toEqual([...[AEAD, 'none', AEAD]]);
  });

  test.each([
    ['/healthz', {}, 200],
    ['/nothing/there', {}, 404],
    ['/_app/nothing', {}, 404],
    ['/api/live', {}, 401],
    ['/sign-in', { method: 'POST', headers: { origin: 'https://elsewhere.invalid' } }, 403],
    ['/', { headers: { host: 'elsewhere.invalid' } }, 307],
  ])('%s %j says how it may be used, whoever answers it', async (path, options, status) => {
    const answer = await ask(path, options);
    expect(answer.status).toBe(status);
    expect(answer.headers).toMatchObject({ 'x-content-type-options': 'nosniff', 'x-frame-options': 'DENY' });
  });

  test('a renewed certificate is shown from the next connection on; one that does not fit changes nothing', async () => {
    expect(await shownName()).toBe('first');
    put('second');
    await rig.until('the second is shown', async () => (await shownName()) === 'second');
    writeFileSync(file('web.key'), readFileSync(file('first.key')));
    await rig.until('the log says that it does not fit', async () => {
      const log = readFileSync(join(rig.system.logs, 'web.log'), 'utf8');
      return log.includes('a renewed certificate for https cannot be used: the one before stays');
    });
    expect(await shownName()).toBe('second');
    put('first');
    await rig.until('the first is shown again', async () => (await shownName()) === 'first');
  });

  test('what is wrong with it is named, and the web does not start', async () => {
    const start = async (more: Record<string, string>): Promise<{ code: number | null; log: string }> => {
      const other = await Rig.make('webwrong', inject('postgres'));
      const { ended, logFile } = other.system.start('web', more);
      const code = (await ended) as number | null;
      await other.stop();
      return { code, log: readFileSync(logFile, 'utf8') };
    };
    const wrong = await start({ HALVIX_HTTPS_CERTIFICATE: file('web.pem') });
    expect(wrong.code).toBe(2);
    expect(wrong.log).toContain('HALVIX_HTTPS_KEY (not set): must be set beside HALVIX_HTTPS_CERTIFICATE');
    expect(wrong.log).toMatch(/HALVIX_WEB_ORIGIN \(set\): must begin with https:\/\/ when there is a certificate/);
    const device = await start({
      HALVIX_HTTPS_CERTIFICATE: '/dev/zero',
      HALVIX_HTTPS_KEY: file('web.key'),
      HALVIX_WEB_ORIGIN: 'https://127.0.0.1',
    });
    expect(device.code).toBe(2);
    expect(device.log).toContain('HALVIX_HTTPS_CERTIFICATE (set): /dev/zero is no file');
  });
});

test('what takes its time to arrive is ended; others are served meanwhile', async () => {
  const slow = Array.from({ length: 40 }, () => {
    const socket = connectTls({ host: '127.0.0.1', port: rig.ports.web, rejectUnauthorized: false });
    let answer = '';
    socket.on('data', (octets) => (answer += String(octets)));
    socket.on('error', () => {});
    socket.write('POST /sign-in HTTP/1.1\r\nhost: x\r\ncontent-length: 5000\r\n');
    const drip = setInterval(() => socket.write('x'), 200);
    return new Promise<string>((resolve) =>
      socket.on('close', () => {
        clearInterval(drip);
        resolve(answer);
      }),
    );
  });
  // One that says nothing at all, not even of TLS.
  const silent = connect({ host: '127.0.0.1', port: rig.ports.web });
  const silentEnds = new Promise((resolve) => silent.on('error', () => {}).on('close', resolve));
  expect((await ask('/healthz')).status).toBe(200);
  for (const answer of await Promise.all(slow)) expect(answer).toMatch(/^HTTP\/1\.1 408|^$/);
  await silentEnds;
});

test("a request that makes no sense is the sender's mistake, never ours", async () => {
  const origin = `https://127.0.0.1:${rig.ports.web}`;
  const post = (type: string, body: string): Promise<Answer> =>
    ask(
      '/sign-in',
      { method: 'POST', headers: { origin, 'content-type': type, 'content-length': String(body.length) } },
      body,
    );
  expect((await post('multipart/form-data; boundary=x', '--x\r\nContent-Disposition: form')).status).toBe(400);
  expect((await post('application/json', '{"a"')).status).toBe(415);
  for (const path of ['/%E0%A4%A', '/a%00b', '/../../etc/passwd', '/_app/..%2f..%2fetc/passwd', `/${'a'.repeat(8000)}`])
    expect((await ask(path)).status, path).toBeLessThan(500);
  expect((await ask('/', { method: 'TRACE' })).status).toBeLessThan(500);
  expect((await ask('/healthz')).status).toBe(200);
});
