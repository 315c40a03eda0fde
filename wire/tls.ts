import { X509Certificate } from 'node:crypto';
import { readFileSync, realpathSync, statSync } from 'node:fs';
import { isIP, type Server, type Socket, type TcpNetConnectOpts } from 'node:net';
import { isAbsolute, join, sep } from 'node:path';
import { connect, createServer, TLSSocket, type SecureContextOptions } from 'node:tls';

/** Names of PEM files: whom we trust, who we are, whom we trust no more. */
export interface TlsFiles {
  authorityFile: string;
  certificateFile: string;
  keyFile: string;
  /** Empty: none. */
  revocationFile: string;
  /** The name in the other end's certificate; empty: the host. */
  serverName: string;
}

/** Far more than a chain of certificates takes. */
const MAX_FILE_OCTETS = 1024 * 1024;

/** The one folder in which TLS files lie. */
const tlsFolder = (): string => process.env.HALVIX_TLS_FOLDER ?? join(process.cwd(), '.data/tls');

/** Throws, in words, for what is not a small file in the folder for TLS files. */
function readTlsFile(name: string): Buffer {
  const folder = tlsFolder();
  const path = isAbsolute(name) ? name : join(folder, name);
  let real: string;
  let home: string;
  try {
    real = realpathSync(path);
    home = realpathSync(folder);
  } catch {
    throw new Error(`the file ${name} cannot be read (TLS files lie in ${folder})`);
  }
  if (!real.startsWith(home + sep)) throw new Error(`the file ${name} does not lie in ${folder}, where TLS files are`);
  const found = statSync(real);
  const { size } = found;
  if (!found.isFile()) throw new Error(`${name} is no file`);
  if (size > MAX_FILE_OCTETS) throw new Error(`the file ${name} has ${size} octets, at most ${MAX_FILE_OCTETS}`);
  try {
    return readFileSync(real);
  } catch {
    throw new Error(`the file ${name} cannot be read`);
  }
}

/** Read anew for each connection, so that renewed certificates count. Throws when a file cannot be read. */
function contextOf({ authorityFile, certificateFile, keyFile, revocationFile }: TlsFiles): SecureContextOptions {
  return {
    ca: readTlsFile(authorityFile),
    cert: readTlsFile(certificateFile),
    key: readTlsFile(keyFile),
    ...(revocationFile === '' ? {} : { crl: readTlsFile(revocationFile) }),
    // TLS 1.2 is the least that IEC 62351-3 allows.
    minVersion: 'TLSv1.2',
    // Without parameters a server has no key exchange by plain Diffie-Hellman, which some devices want.
    dhparam: 'auto',
  };
}

/** When the first of our certificates, or our authority's, is over, ms since 1970; null: they cannot be read. */
export function certificatesEnd({ authorityFile, certificateFile }: TlsFiles): number | null {
  try {
    const ends = [authorityFile, certificateFile].flatMap((file) =>
      (readTlsFile(file).toString().match(PEM_BLOCK) ?? []).map((pem) => Date.parse(new X509Certificate(pem).validTo)),
    );
    return ends.length > 0 ? Math.min(...ends) : null;
  } catch {
    return null;
  }
}
const PEM_BLOCK = /-----BEGIN CERTIFICATE-----[\s\S]*?-----END CERTIFICATE-----/g;

export function connectTls(options: TcpNetConnectOpts, files: TlsFiles): Socket {
  const name = files.serverName || options.host || '';
  return connect({
    ...options,
    ...contextOf(files),
    rejectUnauthorized: true,
    ...(isIP(name) === 0 && name !== '' ? { servername: name } : {}),
  });
}

/** Takes only peers with a certificate of the same authority that is not revoked. */
export function serveTls(files: TlsFiles, onConnection: (socket: Socket) => void): Server {
  const options = { requestCert: true, rejectUnauthorized: true, noDelay: true, handshakeTimeout: HANDSHAKE_MS };
  const server = createServer({ ...contextOf(files), ...options }, onConnection);
  // A renewed certificate, and above all a new revocation list, count from the next connection on.
  server.on('connection', () => {
    try {
      server.setSecureContext(contextOf(files));
    } catch {
      // A file that is being replaced: what was read last goes on.
    }
  });
  return server;
}

const HANDSHAKE_MS = 10_000;

/** Names that the other end's certificate is made out to. */
export function namesOf(socket: Socket): string[] {
  if (!(socket instanceof TLSSocket)) return [];
  const { subject, subjectaltname = '' } = socket.getPeerCertificate();
  const alternative = subjectaltname
    .split(/,\s*/)
    .flatMap((entry) => /^(?:DNS|IP Address|URI):(.*)$/.exec(entry)?.[1] ?? []);
  const common = (subject as { CN?: string | string[] } | undefined)?.CN ?? [];
  return [...alternative, ...(Array.isArray(common) ? common : [common])];
}
