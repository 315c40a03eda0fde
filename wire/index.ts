export { clock } from './clock.ts';
export { Driver } from './driver.ts';
export { TcpClient, inWords, type LinkEvents, type TcpClientOptions, type TcpClientState } from './tcpclient.ts';
export { TcpListener, type ListenerEvents, type TcpListenerOptions } from './tcplistener.ts';
