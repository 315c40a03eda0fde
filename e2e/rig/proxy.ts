import { connect, createServer, type Server, type Socket } from 'node:net';

/** An application confirm in one frame: link header, transport octet, application control, function code 0. */
const isConfirm = (octets: Buffer): boolean => octets.length === 15 && octets[12] === 0;

/** A wire between engine and relay that can swallow the engine's confirms and cut the connection. */
export class Proxy {
  swallowing = false;
  swallowed = 0;
  private readonly server: Server;
  private readonly sockets = new Set<Socket>();

  constructor(port: number, target: number) {
    this.server = createServer({ noDelay: true }, (near) => {
      const far = connect({ port: target, host: '127.0.0.1', noDelay: true });
      for (const socket of [near, far]) {
        this.sockets.add(socket);
        socket.on('error', () => {});
        socket.on('close', () => {
          this.sockets.delete(socket);
          near.destroy();
          far.destroy();
        });
      }
      far.on('data', (octets) => near.write(octets));
      near.on('data', (octets) => {
        if (this.swallowing && isConfirm(octets)) this.swallowed++;
        else far.write(octets);
      });
    });
    this.server.listen(port, '127.0.0.1');
  }

  cut(): void {
    for (const socket of this.sockets) socket.destroy();
  }

  close(): void {
    this.cut();
    this.server.close();
  }
}
