import { FORWARD_SECRECY, readSettings } from '@halvix/core/settings';
import { createServer as createHttp, type RequestListener, type ServerOptions } from 'node:http';
import { createServer as createHttps } from 'node:https';
import { CertificateWatch, readCertificate, type Shown } from './certificate.ts';
import { HEADERS } from './headers.ts';
import { serverSettings } from './settings.ts';

/*
 * The web's process: the pages and requests that SvelteKit built, over http or https. What takes its time to arrive is
 * ended, a renewed certificate counts from the next connection on.
 */
const CERTIFICATE_LOOK_MS = 5000;
const HEADERS_MS = 10_000;
/** Octets that neither come nor go for so long: a stream of live values speaks each second. */
const IDLE_MS = 120_000;
const KEEP_ALIVE_MS = 65_000;
const MAX_CONNECTIONS = 2000;
const WARN_BEFORE_MS = 30 * 86_400_000;
const EXIT_BAD_SETTING = 2;

const say = (level: 'info' | 'warn' | 'error', words: string, more: object = {}): void =>
  void process.stdout.write(`${JSON.stringify({ time: new Date().toISOString(), level, words, ...more })}\n`);

function refuse(problems: readonly string[]): never {
  for (const problem of problems) process.stderr.write(`setting ${problem}\n`);
  process.exit(EXIT_BAD_SETTING);
}

// A log that cannot be written stops nothing.
process.stdout.on('error', () => {});
process.stderr.on('error', () => {});
// Who does not know what broke does not go on: the next start begins from what is stored.
process.on('uncaughtException', (error) => {
  say('error', 'the web ends: it met an error that nothing expected', { reason: error.stack ?? String(error) });
  process.exit(1);
});

const read = readSettings(serverSettings, process.env);
if (!read.ok) refuse(read.problem);
const settings = read.value;
const { HALVIX_HTTPS_CERTIFICATE: certificateFile, HALVIX_HTTPS_KEY: keyFile } = settings;

function firstCertificate(): Shown | null {
  if (certificateFile === '') return null;
  try {
    return readCertificate(certificateFile, keyFile);
  } catch (error) {
    return refuse([`HALVIX_HTTPS_CERTIFICATE (set): ${error instanceof Error ? error.message : ''}`]);
  }
}

const requestTimeout = settings.HALVIX_HTTP_REQUEST_SECONDS * 1000;
const options: ServerOptions = {
  headersTimeout: Math.min(HEADERS_MS, requestTimeout),
  requestTimeout,
  keepAliveTimeout: KEEP_ALIVE_MS,
  connectionsCheckingInterval: 2000,
  maxHeaderSize: 16_384,
};
// Lists of 100 000 points are one request; each route has its own limit beside.
process.env.HALVIX_WEB_BODY_SIZE_LIMIT ??= '100M';
// Made by the build, beside which this program lies.
const built = new URL('../web/build/handler.js', import.meta.url).href;
const { handler } = (await import(built)) as { handler: (...of: [...Parameters<RequestListener>, () => void]) => void };
const onRequest: RequestListener = (request, response) => {
  // On every answer, whoever makes it.
  for (const [name, value] of Object.entries(HEADERS)) response.setHeader(name, value);
  handler(request, response, () => response.writeHead(404).end());
};

const shown = firstCertificate();
const TLS = { minVersion: 'TLSv1.2', ciphers: FORWARD_SECRECY, handshakeTimeout: HEADERS_MS } as const;
const server =
  shown === null
    ? createHttp(options, onRequest)
    : createHttps({ ...options, ...TLS, cert: shown.cert, key: shown.key }, onRequest);
server.setTimeout(IDLE_MS);
server.maxConnections = MAX_CONNECTIONS;
server.on('error', (error) => {
  say('error', 'the web cannot listen', { reason: error.message });
  process.exit(1);
});

let watching: NodeJS.Timeout | undefined;
if (shown !== null && 'setSecureContext' in server) {
  const judge = ({ validTo }: Shown): void => {
    if (validTo - Date.now() < WARN_BEFORE_MS)
      say('warn', `the certificate for https ends at ${new Date(validTo).toISOString()}`);
  };
  judge(shown);
  const watch = new CertificateWatch(
    [certificateFile, keyFile],
    (renewed) => {
      server.setSecureContext({
        cert: renewed.cert,
        key: renewed.key,
        minVersion: TLS.minVersion,
        ciphers: TLS.ciphers,
      });
      say('info', 'the certificate for https was renewed', { until: new Date(renewed.validTo).toISOString() });
      judge(renewed);
    },
    (words) => say('error', 'a renewed certificate for https cannot be used: the one before stays', { reason: words }),
  );
  watching = setInterval(() => watch.look(), CERTIFICATE_LOOK_MS);
}

server.listen(settings.HALVIX_WEB_PORT, settings.HALVIX_WEB_HOST, () =>
  say('info', `the web listens on ${settings.HALVIX_WEB_HOST} port ${settings.HALVIX_WEB_PORT}`, {
    https: shown !== null,
  }),
);

let ending = false;
function end(signal: NodeJS.Signals): void {
  if (ending) return;
  ending = true;
  clearInterval(watching);
  setTimeout(() => server.closeAllConnections(), settings.HALVIX_WEB_SHUTDOWN_TIMEOUT * 1000).unref();
  server.close(() => {
    // Its own connections to the database end with it.
    process.emit('sveltekit:shutdown' as never, signal as never);
    setTimeout(() => process.exit(0), 500).unref();
  });
  server.closeIdleConnections();
}
for (const signal of ['SIGINT', 'SIGTERM'] as const) process.on(signal, () => end(signal));
