import { readFileSync } from 'node:fs';
import { isIP, type Server, type Socket, type TcpNetConnectOpts } from 'node:net';
import { connect, createServer, type SecureContextOptions } from 'node:tls';

/** Names of PEM files: whom we trust, who we are. */
export interface TlsFiles {
  authorityFile: string;
  certificateFile: string;
  keyFile: string;
  /** The name in the other end's certificate; empty: the host. */
  serverName: string;
}

/** Read anew for each connection, so that renewed certificates count. Throws when a file cannot be read. */
function contextOf({ authorityFile, certificateFile, keyFile }: TlsFiles): SecureContextOptions {
  const read = (name: string): Buffer => {
    try {
      return readFileSync(name);
    } catch {
      throw new Error(`the file ${name} cannot be read`);
    }
  };
  // TLS 1.2 is the least that IEC 62351-3 allows.
  return { ca: read(authorityFile), cert: read(certificateFile), key: read(keyFile), minVersion: 'TLSv1.2' };
}

export function connectTls(options: TcpNetConnectOpts, files: TlsFiles): Socket {
  const name = files.serverName || options.host || '';
  return connect({
    ...options,
    ...contextOf(files),
    rejectUnauthorized: true,
    ...(isIP(name) === 0 && name !== '' ? { servername: name } : {}),
  });
}

/** Takes only peers with a certificate of the same authority. */
export const serveTls = (files: TlsFiles, onConnection: (socket: Socket) => void): Server =>
  createServer({ ...contextOf(files), requestCert: true, rejectUnauthorized: true, noDelay: true }, onConnection);
