import type { Socket } from 'node:net';

/** What is sent in this go, by socket. */
const gathered = new WeakMap<Socket, Uint8Array[]>();

/** Sends octets; those that are sent in one go leave in one piece, and take one call of the system. */
export function sendTogether(socket: Socket, octets: Uint8Array): void {
  const pieces = gathered.get(socket);
  if (pieces !== undefined) {
    pieces.push(octets);
    return;
  }
  gathered.set(socket, [octets]);
  process.nextTick(() => {
    const all = gathered.get(socket) ?? [];
    gathered.delete(socket);
    // One buffer costs the system less than a list of them.
    if (!socket.destroyed) socket.write(all.length === 1 ? all[0] : Buffer.concat(all));
  });
}
