import { describe, expect, test } from 'vitest';
import { demoConfiguration } from '../../../bench/scenario/configuration.ts';
import { EMPTY_CONFIGURATION, type Configuration } from '../document/document.ts';
import { doorsOpened } from './doors.ts';

/** What is opened by a change of the demo's first centre and the link on which it calls. */
function opened(
  change: (outbound: Configuration['outbounds'][number], link: Configuration['links'][number]) => void,
  begin: typeof change = () => {},
): string[] {
  const partsOf = (c: Configuration): Parameters<typeof change> => [
    c.outbounds[0],
    c.links.find(({ code }) => code === c.outbounds[0].link)!,
  ];
  const [before, after] = [demoConfiguration(), demoConfiguration()];
  for (const one of [before, after]) {
    partsOf(one)[0].allowFrom = ['10.1.0.0/16', '192.0.2.7'];
    begin(...partsOf(one));
  }
  change(...partsOf(after));
  return doorsOpened(before, after).map((line) => line.replace(/^(\w+) \w+: /, '$1: '));
}

describe('doors that a change opens', () => {
  test('networks from which a centre may connect, where none before held them', () => {
    expect(opened(({ allowFrom }) => allowFrom.push('10.1.7.0/24', '192.0.2.7/32', '10.1.2.3'))).toEqual([]);
    expect(opened((one) => (one.allowFrom = ['192.0.2.7']))).toEqual([]);
    expect(opened(({ allowFrom }) => allowFrom.push('10.0.0.0/8', '192.0.2.6/31', '2001:db8::/32'))).toEqual([
      'outbound: its centre may connect from 10.0.0.0/8, 192.0.2.6/31, 2001:db8::/32',
    ]);
    expect(
      opened(
        ({ allowFrom }) => allowFrom.push('::/0'),
        ({ allowFrom }) => allowFrom.push('0.0.0.0/0'),
      ),
    ).toEqual(['outbound: its centre may connect from ::/0']);
  });

  test('who may operate: by leave, or from further networks', () => {
    const closed = (one: Configuration['outbounds'][number]): void => {
      Object.assign(one, { controls: false, controlsFrom: ['10.1.0.0/16'] });
    };
    const open = (one: Configuration['outbounds'][number]): void => void (one.controls = true);
    expect(opened(open, closed)).toEqual(['outbound: its centre may operate from 10.1.0.0/16']);
    expect(opened(({ controlsFrom }) => controlsFrom.push('192.0.2.7'), closed)).toEqual([]);
    const both = (one: Configuration['outbounds'][number]): void => (closed(one), open(one));
    expect(opened(({ controlsFrom }) => controlsFrom.push('192.0.2.7'), both)).toEqual([
      'outbound: its centre may operate from 192.0.2.7',
    ]);
    expect(opened((one) => (one.controls = false), both)).toEqual([]);
  });

  test('certificates that are asked for no more, or of others', () => {
    const secured = (_: unknown, link: Configuration['links'][number]): void =>
      void (link.tls = { ...link.tls, use: true });
    expect(opened((_, link) => (link.tls = { ...link.tls, use: false }), secured)).toEqual([
      'link: asks for no certificate any more',
    ]);
    const named = (one: Configuration['outbounds'][number]): void => void (one.peerName = 'scada.test');
    expect(opened((one) => (one.peerName = ''), named)).toEqual([
      'outbound: a certificate of any name will do, not of scada.test',
    ]);
  });

  test('a link that listens elsewhere, or to more', () => {
    expect(opened((_, link) => (link.host = '0.0.0.0'))[0]).toMatch(/^link: listens on 0\.0\.0\.0, not /);
    // Centres have lists of their own.
    expect(opened((_, link) => (link.allowFrom = ['172.16.0.0/12']))).toEqual([]);
    expect(opened((_, link) => (link.type = 'tcpClient'))).toEqual([]);
  });

  test('a link on which devices call', () => {
    const calling = (allowFrom: string[]): Configuration => {
      const configuration = demoConfiguration();
      Object.assign(configuration.links[0], { type: 'tcpServer', port: 20_900, allowFrom });
      return configuration;
    };
    const { code } = demoConfiguration().links[0];
    expect(doorsOpened(calling(['10.0.0.0/8']), calling(['10.3.0.0/16']))).toEqual([]);
    expect(doorsOpened(calling(['10.3.0.0/16']), calling(['10.0.0.0/8']))).toEqual([
      `link ${code}: may be called from 10.0.0.0/8`,
    ]);
    expect(doorsOpened(demoConfiguration(), calling(['10.3.0.0/16']))).toEqual([
      `link ${code}: may be called from 10.3.0.0/16`,
    ]);
  });

  test('what is new opens all that it has', () => {
    const all = doorsOpened(EMPTY_CONFIGURATION, demoConfiguration());
    expect(all).toHaveLength(new Set(all).size);
    expect(all.filter((line) => line.startsWith('outbound'))).toHaveLength(demoConfiguration().outbounds.length);
    expect(doorsOpened(demoConfiguration(), EMPTY_CONFIGURATION)).toEqual([]);
  });
});
