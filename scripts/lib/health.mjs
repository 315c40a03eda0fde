import { request as overHttp } from 'node:http';
import { request as overHttps } from 'node:https';

/**
 * What the web on this machine says of its health; null: it does not answer. A certificate is for the name that people
 * use, not for this machine's address.
 * @param {{ host: string, port: string, https: boolean }} where
 * @returns {Promise<{ ok: boolean, accounts?: boolean } | null>}
 */
export function webHealth({ host, port, https }) {
  const local = ['0.0.0.0', '::'].includes(host) ? '127.0.0.1' : host;
  return new Promise((resolve) => {
    const options = { host: local, port, path: '/healthz', rejectUnauthorized: false };
    const asked = (https ? overHttps : overHttp)(options, (answer) => {
      let text = '';
      answer.on('data', (octets) => (text += octets));
      answer.on('end', () => {
        try {
          resolve({ ...JSON.parse(text), ok: answer.statusCode === 200 });
        } catch {
          resolve(null);
        }
      });
    });
    asked.setTimeout(2000, () => asked.destroy());
    asked.on('error', () => resolve(null));
    asked.end();
  });
}
