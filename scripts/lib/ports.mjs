import { createServer } from 'node:net';
import { Trouble } from './say.mjs';

/** @param {number} port */
const isFree = (port) =>
  new Promise((resolve) => {
    const server = createServer();
    server.once('error', () => resolve(false));
    server.listen(port, '127.0.0.1', () => server.close(() => resolve(true)));
  });

/** @param {Record<string, number>} ports  by what they are for */
export async function requireFree(ports) {
  const taken = [];
  for (const [use, port] of Object.entries(ports)) if (!(await isFree(port))) taken.push(`${port} (${use})`);
  if (taken.length > 0)
    throw new Trouble(
      `Taken on 127.0.0.1: port ${taken.join(', ')}.\nAnother program listens there; stop it and try again ` +
        '(`ss -ltnp` shows which one it is).',
    );
}

/**
 * Ports that are free now, each a different one.
 * @param {number} count
 * @returns {Promise<number[]>}
 */
export async function freePorts(count) {
  const servers = await Promise.all(
    Array.from(
      { length: count },
      () =>
        new Promise((/** @type {(server: import('node:net').Server) => void} */ resolve, reject) => {
          const server = createServer();
          server.once('error', reject);
          server.listen(0, '127.0.0.1', () => resolve(server));
        }),
    ),
  );
  const ports = servers.map((server) => /** @type {import('node:net').AddressInfo} */ (server.address()).port);
  await Promise.all(servers.map((server) => new Promise((resolve) => server.close(resolve))));
  return ports;
}
