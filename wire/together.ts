import type { Socket } from 'node:net';

const gathering = new WeakSet<Socket>();

/** Sends octets; those that are sent in one go leave in one piece, and take one call of the system. */
export function sendTogether(socket: Socket, octets: Uint8Array): void {
  if (!gathering.has(socket)) {
    gathering.add(socket);
    socket.cork();
    process.nextTick(() => {
      gathering.delete(socket);
      socket.uncork();
    });
  }
  socket.write(octets);
}
