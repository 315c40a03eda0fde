import { browserStream, type Listener } from './stream.ts';
import type { Topics } from './topics.ts';

/** The stream that all pages of this browser share. A page sends what it wants to hear; null: nothing any more. */
const stream = browserStream();

self.addEventListener('connect', (event) => {
  const [port] = (event as MessageEvent).ports;
  const listener: Listener = (said) => port.postMessage(said);
  port.onmessage = ({ data }: MessageEvent<Topics | null>) => {
    if (data === null) stream.leave(listener);
    else stream.set(listener, data);
  };
});
