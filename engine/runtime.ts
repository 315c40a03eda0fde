import {
  deviceTouch,
  isCollected,
  outboundTouch,
  sameDocument,
  type Configuration,
  type DeviceConfig,
  type LinkConfig,
  type OutboundConfig,
} from '@halvix/core/config';
import type { Reading } from '@halvix/core/point';
import { definitionOf, deviceOf, isLinked, wayOut, type OwedRecord, type Contacts } from '@halvix/core/protocols';
import { outboundDetails, type EngineState } from '@halvix/core/path';
import {
  forgetOutbounds,
  keepHopStates,
  keptOf,
  latestOf,
  newestRevision,
  withOpenSecrets,
  newestRevisionId,
  outboundNumbers,
  readingsBetween,
  sentMessages,
  pointNumbers,
  type StoredReading,
  type AppliedRevision,
  type Database,
  type OwedEvent,
} from '@halvix/db';
import { clock } from '@halvix/wire';
import { Commands } from './controls/commands.ts';
import type { CentreControl } from './controls/controls.ts';
import { Conversations } from './links/conversations.ts';
import { GuestDeviceLink, GuestOutboundLink } from './links/guestlinks.ts';
import { DeviceRunner, type DeviceContext } from './field/device.ts';
import { LinkRunner, type DeviceLink } from './links/link.ts';
import type { Hop } from './told/hoprounds.ts';
import { Exchange, takenOutOfService, withoutCommunication } from './board/exchange.ts';
import { Historian } from './store/historian.ts';
import { Contributions } from './handon/contributions.ts';
import { Ledger } from './handon/ledger.ts';
import { LimitDesk } from './board/limitdesk.ts';
import { Journal } from './journal.ts';
import { heldBy, type Held } from './held.ts';
import { log } from './log.ts';
import { OutboundRunner, type HandedOver } from './centres/outbound.ts';
import { SourceRunner } from './field/source.ts';
import { OutboundKeeper } from './handon/outboundkeeper.ts';
import { CarrierWay } from './links/carrierway.ts';
import { OutboundLink, type CentreLink } from './links/outboundlink.ts';
import { makeCarrier, type CarrierPlaces } from './carriers/index.ts';
import { FileTransfers } from './field/files.ts';
import { Probes } from './field/probes.ts';
import { SentPackets } from './told/sentpackets.ts';
import { Publisher } from './told/publisher.ts';
import { trailOf } from './centres/trail.ts';
import type { WaitingFile } from './store/waitingfile.ts';

/** Readings of history that go once more in one piece. */
const SPAN_PIECE = 500;

/** Everything that runs for the configuration in force. */
export class Runtime {
  readonly exchange = new Exchange();
  readonly journal = new Journal();
  readonly devices = new Map<string, DeviceRunner>();
  /** Devices without a link. */
  private readonly sources = new Map<string, SourceRunner>();
  readonly links = new Map<string, DeviceLink>();
  private readonly conversations = new Conversations();
  readonly outbounds = new Map<string, OutboundRunner>();
  private readonly outboundLinks = new Map<string, CentreLink>();
  /** Outbounds that are to go on as others, by their numbers: until those are there they take what is to be handed on. */
  private readonly replaced = new Map<number, OutboundRunner>();
  readonly historian: Historian;
  private readonly limits = new LimitDesk(this.exchange, this.journal);
  readonly publisher: Publisher;
  readonly commands: Commands;
  readonly probes: Probes;
  readonly files: FileTransfers;
  revision: number | null = null;
  /** By which a device of the revision is known under another code. */
  private deviceIds: Readonly<Record<string, number>> = {};
  private readonly startedAt = clock.now();
  /** What the sessions of devices that do not run have kept. */
  private readonly keeps: Map<string, Uint8Array>;
  private readonly keeper: OutboundKeeper;
  private readonly sent: SentPackets;
  readonly contributions: Contributions;
  private readonly ledger: Ledger;
  private applying: Promise<void> = Promise.resolve();
  private rate = { at: clock.now(), stored: 0, perSecond: 0 };

  constructor(
    private readonly database: Database,
    /** For what people see: newest values, states, journal. */
    liveDatabase: Database,
    /** For how far outbounds are settled. */
    ledgerDatabase: Database,
    private readonly engine: string,
    writer: {
      /** Of this run: the mark of its writers. */
      run: string;
      /** What the session of each device has kept. */
      keeps: Map<string, Uint8Array>;
      fenced: () => void;
      refused: (readings: readonly StoredReading[], reason: string) => void;
      file: WaitingFile | null;
    },
    /** What carriers need of this machine. */
    private readonly places: CarrierPlaces,
  ) {
    this.keeps = writer.keeps;
    this.keeper = new OutboundKeeper(liveDatabase, writer.run);
    this.sent = new SentPackets(liveDatabase, writer.run);
    this.historian = new Historian({
      database,
      ...writer,
      owedStored: (owed) => this.owedStored(owed),
      linkOf: (device) => this.devices.get(device)?.config.link ?? '',
    });
    this.ledger = new Ledger(ledgerDatabase, writer.run);
    this.contributions = new Contributions((owed) => {
      const nothing = { readings: [], keep: null, mayDrop: false, confirms: false, stored: () => {} };
      this.historian.add({ device: OWED_ALONE, owed, ...nothing });
    });
    this.publisher = new Publisher({
      database: liveDatabase,
      exchange: this.exchange,
      journal: this.journal,
      run: writer.run,
      engine,
      hops: () => this.hops(),
      trailOf: (point) => trailOf(point, this.outbounds.values()),
    });
    const changed = (): void => this.publisher.hopsChanged();
    this.probes = new Probes({ database, engine, devices: () => this.devices });
    this.files = new FileTransfers({ database, engine, journal: this.journal, devices: () => this.devices });
    this.commands = new Commands({
      database,
      engine,
      run: writer.run,
      exchange: this.exchange,
      journal: this.journal,
      devices: () => this.devices,
      given: (command) => this.outbounds.forEach((outbound) => outbound.commandGiven(command)),
      changed,
    });
  }

  /** Brings what runs in line with the newest revision; only what changed is touched. */
  apply(): Promise<void> {
    this.applying = this.applying
      .catch(() => {})
      .then(async () => {
        // The whole document only when it is another one.
        if ((await newestRevisionId(this.database)) === this.revision) return;
        const revision = await newestRevision(this.database);
        if (revision === null || revision.id === this.revision) return;
        const { configuration, closed } = await withOpenSecrets(this.database, revision.configuration);
        for (const { kind, code, words } of closed) log('error', words, { [kind]: code });
        await this.change({ ...revision, configuration }, heldBy(closed));
      });
    return this.applying;
  }

  private async change({ id, configuration, deviceIds }: AppliedRevision, held: Held): Promise<void> {
    const numbers = await pointNumbers(this.database);
    const links = new Map(configuration.links.map((link) => [link.code, link]));
    const wanted = new Map(
      configuration.devices.flatMap((device) => {
        const link = links.get(device.link);
        return link && isCollected(device) && isLinked(device.protocol)
          ? [[device.code, { device, link }] as const]
          : [];
      }),
    );
    const unlinked = configuration.devices.filter((device) => isCollected(device) && !isLinked(device.protocol));
    const outboundNumber = await outboundNumbers(
      this.database,
      configuration.outbounds.map(({ code }) => code),
    );
    const numberOf = (device: string) => (address: string) => numbers.get(device, address);

    await this.restOutbounds(configuration, links, outboundNumber, held);
    // What a session can adopt does not end it.
    const touched = new Set<string>();
    const adopting: DeviceConfig[] = [];
    const codeOf = new Map(Object.entries(deviceIds).map(([code, number]) => [number, code]));
    const stopped = new Map<string, Uint8Array>();
    for (const [code, runner] of this.devices) {
      const next = wanted.get(code);
      const isSame = next && runner.link.fits(next.link) && runner.held === held('device', code, next.link.code);
      const touch = isSame ? deviceTouch(runner.config, next.device) : 'restarts';
      if (next && touch !== 'restarts') {
        if (touch === 'adopted') adopting.push(next.device);
        continue;
      }
      // Under another code it is the same device, and goes on with the same memory.
      const codeNow = codeOf.get(this.deviceIds[code]) ?? code;
      stopped.set(codeNow, runner.stop());
      this.devices.delete(code);
      touched.add(code);
    }
    for (const [code, keep] of stopped) this.keeps.set(code, keep);
    for (const [code, source] of this.sources) {
      const next = unlinked.find((device) => device.code === code);
      if (next && sameDocument(next, source.config)) continue;
      source.stop();
      this.sources.delete(code);
    }
    for (const [code, link] of this.links) {
      const next = links.get(code);
      if (!link.isEmpty && next && link.fits(next)) continue;
      await link.stop();
      this.links.delete(code);
    }
    const known = new Set(configuration.devices.filter(isKnown).map(({ code }) => code));
    for (const code of this.exchange.devices()) {
      if (known.has(code)) continue;
      this.exchange.removeDevice(code);
      touched.add(code);
    }
    const fresh = [...wanted.values()].filter(({ device }) => !this.devices.has(device.code));
    const resting = configuration.devices.filter(({ life }) => life === 'outOfService');
    const newSources = unlinked.filter(({ code }) => !this.sources.has(code));
    for (const device of [...fresh.map((one) => one.device), ...adopting, ...resting, ...newSources]) {
      this.limits.adopt(this.exchange.setDevice(device, numberOf(device.code)));
      touched.add(device.code);
    }
    await this.recall(fresh.map(({ device }) => device.code));
    await this.recall(
      newSources.map(({ code }) => code),
      asKnown,
    );
    await this.recall(
      resting.map(({ code }) => code),
      takenOutOfService,
    );
    this.exchange.forget();
    for (const device of adopting) this.devices.get(device.code)?.adopt(device);
    await this.recallKept(fresh.map(({ device }) => device.code));
    for (const { device, link } of fresh) {
      const context = {
        exchange: this.exchange,
        historian: this.historian,
        contributions: this.contributions,
        journal: this.journal,
        onControl: (progress: Parameters<DeviceContext['onControl']>[0]) => this.commands.onProgress(progress),
        changed: () => this.publisher.hopsChanged(),
        conversations: this.conversations,
      };
      const keep = this.keeps.get(device.code) ?? null;
      const holds = held('device', device.code, link.code);
      const runner = new DeviceRunner(device, this.linkFor(link), keep, context, holds);
      this.devices.set(device.code, runner);
    }
    for (const device of newSources) this.sources.set(device.code, new SourceRunner(device, this.standing, this));
    await this.closeOutboundLinks(links);
    for (const config of configuration.outbounds) {
      const link = links.get(config.link);
      const number = outboundNumber.get(config.code);
      if ((link || isCarried(config)) && number !== undefined)
        await this.bringOutbound(config, number, link ?? null, touched, held('outbound', config.code, config.link));
    }
    for (const { device } of fresh) this.devices.get(device.code)?.start();
    for (const link of this.links.values()) link.start();
    for (const { code } of newSources) this.sources.get(code)?.start();
    this.revision = id;
    this.deviceIds = deviceIds;
    await this.forgetHops(configuration);
    const kept = configuration.outbounds.flatMap(({ code }) => outboundNumber.get(code) ?? []);
    this.keeper.forgetAllBut(kept);
    await forgetOutbounds(this.database, kept);
    log('info', 'configuration applied', {
      revision: id,
      devicesStarted: fresh.length,
      listsChanged: adopting.length,
    });
    this.publisher.hopsChanged();
  }

  /** How all conversations stand, for those who tell of it. */
  private readonly standing: Contacts = {
    device: (code) => this.devices.get(code)?.standing() ?? null,
    point: (code, address) => this.devices.get(code)?.pointStanding(address) ?? null,
    outbound: (code) => this.outbounds.get(code)?.standing() ?? null,
  };

  private linkFor(config: LinkConfig): DeviceLink {
    const running = this.links.get(config.code);
    if (running) return running;
    // Where centres call, the devices that they are speak within what they have made.
    const link = deviceOf(config.protocol).links.includes(config.type)
      ? new LinkRunner(config, { changed: () => this.publisher.hopsChanged() })
      : new GuestDeviceLink(config, this.conversations);
    this.links.set(config.code, link);
    return link;
  }

  /**
   * Outbounds that go on as others have no centre from now on, but take what is to be handed on until those are there:
   * what goes out is waited for first, so that nothing is told twice.
   */
  private async restOutbounds(
    { outbounds }: Configuration,
    links: ReadonlyMap<string, LinkConfig>,
    numbers: ReadonlyMap<string, number>,
    held: Held,
  ): Promise<void> {
    const wanted = new Map(outbounds.map((config) => [numbers.get(config.code), config]));
    const ending: OutboundRunner[] = [];
    for (const outbound of this.outbounds.values()) {
      const next = wanted.get(outbound.number);
      const link = next && links.get(next.link);
      const isSame = next && outbound.held === held('outbound', next.code, next.link);
      const goesOn = isSame && outboundTouch(outbound.config, next) !== 'restarts';
      if (!goesOn || !outbound.link.fits(link)) ending.push(outbound);
    }
    await Promise.all(ending.map((outbound) => outbound.rest()));
    // Of an earlier try that did not get to its end.
    for (const [number, outbound] of this.replaced)
      if (!wanted.has(number)) {
        outbound.stop();
        this.replaced.delete(number);
      }
    for (const outbound of ending) {
      this.outbounds.delete(outbound.config.code);
      if (wanted.has(outbound.number)) {
        outbound.close();
        this.replaced.set(outbound.number, outbound);
      } else outbound.stop();
    }
  }

  private async bringOutbound(
    config: OutboundConfig,
    number: number,
    link: LinkConfig | null,
    touched: ReadonlySet<string>,
    held: string | null,
  ): Promise<void> {
    const running = this.outbounds.get(config.code);
    if (running) {
      const concerned = config.mappings.some(({ device }) => touched.has(device));
      if (concerned || outboundTouch(running.config, config) !== 'ignored') running.adopt(config, touched);
      return;
    }
    const before = this.replaced.get(number);
    await before?.filled;
    const account = before === undefined ? await this.ledger.open(number) : null;
    const pieces = before === undefined ? await this.keeper.load(number) : [];
    // From here on nothing is waited for: what comes about is either the earlier one's or this one's.
    const handed: HandedOver = before?.stop() ?? {
      remembered: { pieces, lastNumber: account?.lastNumber ?? 0, owes: account?.owes ?? false },
      owed: [],
    };
    this.replaced.delete(number);
    const context = {
      exchange: this.exchange,
      journal: this.journal,
      control: (control: CentreControl) => this.commands.fromCentre(control),
      changed: () => this.publisher.hopsChanged(),
      conversations: this.conversations,
      keep: (octets: Uint8Array, all: () => Uint8Array, replaces: boolean) =>
        this.keeper.add(number, octets, all, replaces),
      sent: this.sent,
      owe: (record: OwedRecord) => this.contributions.add({ outbound: number, ...record }),
      settle: (settled: { queue: string; position: number; beyond: readonly number[] }) =>
        this.ledger.settle({ outbound: number, ...settled }),
    };
    const way = this.wayFor(config, number, link);
    const outbound = new OutboundRunner(config, number, way, context, handed.remembered, held);
    this.outbounds.set(config.code, outbound);
    outbound.begin();
    outbound.toldBefore(account?.told ?? handed.owed);
    if (account === null) {
      if (handed.remembered.owes) outbound.fill(handed.owed, true);
    } else if (account.owes) outbound.filled = account.fill((events, last) => outbound.fill(events, last));
    outbound.open();
  }

  /** Of a device under a new code, or one that was taken out before this engine began, the database knows. */
  private async recallKept(devices: readonly string[]): Promise<void> {
    const unknown = devices.filter((code) => !this.keeps.has(code));
    for (const [code, octets] of await keptOf(this.database, unknown)) this.keeps.set(code, octets);
  }

  /** What outbounds owe is committed: told to those that wait for it. */
  private owedStored(owed: readonly OwedEvent[]): void {
    const numbers = new Map<number, number[]>();
    for (const { outbound, number } of owed) {
      const own = numbers.get(outbound);
      if (own) own.push(number);
      else numbers.set(outbound, [number]);
    }
    for (const runner of [...this.outbounds.values(), ...this.replaced.values()]) {
      const own = numbers.get(runner.number);
      if (own) runner.stored(own);
    }
  }

  /** Has a packet that went to a destination go once more. */
  async sendPacket({ outbound, packet, by }: { outbound: string; packet: number; by: string }): Promise<void> {
    const runner = this.outbounds.get(outbound);
    const messages = await sentMessages(this.database, outbound, packet).catch(() => null);
    if (messages !== null) runner?.sendPacket(packet, messages, by);
    else this.journal.note(outbound, 'warning', `packet ${packet} is not kept here any more: it does not go once more`);
  }

  /** Has what history knows of a span go to a destination once more. */
  sendSpan({ outbound, from, to, by }: { outbound: string; from: number; to: number; by: string }): void {
    void this.outbounds
      .get(outbound)
      ?.sendSpan({ from, to, by }, (points, after, until) =>
        readingsBetween(this.database, points, { after, to: until, about: SPAN_PIECE }),
      );
  }

  /** How an outbound gets to its other side: over a link, or by a carrier, which is its own. */
  private wayFor({ protocol, settings }: OutboundConfig, number: number, link: LinkConfig | null): CentreLink {
    if (link !== null) return this.outboundLinkFor(link);
    const carried = definitionOf(protocol).publishes?.carried;
    if (!carried) throw new Error(`${protocol} needs a link`);
    const way = new CarrierWay(makeCarrier(carried.carrier, carried.destination(settings), this.places));
    // Links have codes, which have no blanks.
    this.outboundLinks.set(`carrier ${number}`, way);
    return way;
  }

  private outboundLinkFor(config: LinkConfig): CentreLink {
    const running = this.outboundLinks.get(config.code);
    if (running) return running;
    const changed = (): void => this.publisher.hopsChanged();
    const link = wayOut(config.protocol)?.links.includes(config.type)
      ? new OutboundLink(config, changed, definitionOf(config.protocol).publishes !== null)
      : new GuestOutboundLink(config, this.conversations);
    this.outboundLinks.set(config.code, link);
    return link;
  }

  /** Links to centres that nobody uses any more, or uses in another way, are closed before they are opened anew. */
  private async closeOutboundLinks(wanted: ReadonlyMap<string, LinkConfig>): Promise<void> {
    for (const [code, link] of this.outboundLinks) {
      if (!link.isEmpty && link.fits(wanted.get(code))) continue;
      await link.close();
      this.outboundLinks.delete(code);
    }
  }

  /** Last known values of devices that are about to start: without communication until they answer. */
  private async recall(devices: readonly string[], as = withoutCommunication): Promise<void> {
    const points = devices
      .flatMap((code) => this.exchange.ofDevice(code))
      .filter((point) => point.reading === null || as === takenOutOfService);
    const known = await latestOf(
      this.database,
      points.map((point) => point.id),
    );
    this.exchange.together(() => {
      for (const point of points) {
        const reading = point.reading ?? known.get(point.id);
        if (reading) this.exchange.recall(point, reading, as(reading));
      }
    });
  }

  private async forgetHops({ links, devices, outbounds }: Configuration): Promise<void> {
    const codes = (items: readonly { code: string }[]): string[] => items.map(({ code }) => code);
    await keepHopStates(this.database, this.engine, 'link', codes(links));
    await keepHopStates(this.database, this.engine, 'lane', codes(links));
    await keepHopStates(this.database, this.engine, 'device', codes(devices.filter(isCollected)));
    const details = [...codes(devices.filter(isCollected)), ...codes(outbounds).map(outboundDetails)];
    await keepHopStates(this.database, this.engine, 'detail', details);
    await keepHopStates(this.database, this.engine, 'outbound', codes(outbounds));
  }

  private hops(): Hop[] {
    const hops: Hop[] = [];
    for (const [code, device] of this.devices) {
      hops.push(
        this.hopOf.get(device) ??
          this.keepHop(device, {
            ...{ kind: 'device', code },
            ...{ essence: () => device.essence(), state: () => device.deviceState() },
          }),
      );
      if (device.hasDetails && this.publisher.isWatchedDevice(code))
        hops.push({ kind: 'detail', code, essence: null, state: () => device.detailState() });
    }
    for (const [code, link] of this.links) {
      // What a guest has of a link its host tells.
      if (!(link instanceof LinkRunner)) continue;
      hops.push(this.hopOf.get(link) ?? this.keepHop(link, hopOfLink(code, link)));
      if (this.publisher.isWatchedLink(code))
        hops.push({ kind: 'lane', code, essence: null, state: () => link.laneState() });
    }
    for (const [code, link] of this.outboundLinks)
      if (link instanceof OutboundLink) hops.push(this.hopOf.get(link) ?? this.keepHop(link, hopOfLink(code, link)));
    for (const [code, outbound] of this.outbounds) {
      hops.push({ kind: 'outbound', code, essence: () => outbound.essence(), state: () => outbound.state() });
      const details = outboundDetails(code);
      if (outbound.hasDetails && this.publisher.isWatchedDevice(details))
        hops.push({ kind: 'detail', code: details, essence: null, state: () => outbound.detailState() });
    }
    hops.push({ kind: 'engine', code: this.engine, essence: null, state: () => this.engineState() });
    return hops;
  }

  /** The same object each time: there are thousands, and they are asked for several times a second. */
  private readonly hopOf = new WeakMap<object, Hop>();

  private keepHop(runner: object, hop: Hop): Hop {
    this.hopOf.set(runner, hop);
    return hop;
  }

  private engineState(): EngineState {
    return {
      startedAt: this.startedAt,
      revision: this.revision,
      readingsPerSecond: this.readingsPerSecond(),
      queuedReadings: this.historian.queued,
      droppedReadings: this.historian.numbers.dropped,
      refusedReadings: this.historian.numbers.refused,
      historyProblem: this.historian.problem,
    };
  }

  private readingsPerSecond(): number {
    const now = clock.now();
    const { stored } = this.historian.numbers;
    if (now - this.rate.at >= 5000)
      this.rate = {
        at: now,
        stored,
        perSecond: Math.round(((stored - this.rate.stored) * 1000) / (now - this.rate.at)),
      };
    return this.rate.perSecond;
  }

  /** Something was handed to a carrier that has not answered: a call to the operating system that may never end. */
  get isCarrying(): boolean {
    return this.hanging;
  }
  private hanging = false;

  /** What comes in ends first, so that all of it is handed on. */
  async stop(): Promise<void> {
    this.probes.stop();
    for (const source of this.sources.values()) source.stop();
    for (const device of this.devices.values()) device.stop();
    for (const link of this.links.values()) await link.stop();
    const outbounds = [...this.outbounds.values(), ...this.replaced.values()];
    await Promise.all(outbounds.map((outbound) => outbound.rest()));
    for (const outbound of outbounds) outbound.stop();
    this.hanging = [...this.outboundLinks.values()].some((way) => way instanceof CarrierWay && way.isCarrying);
    await this.closeOutboundLinks(new Map());
    await this.keeper.flush();
    await this.sent.flush();
    const unwritten = await this.ledger.stop();
    await this.historian.stop(unwritten);
    this.publisher.stop();
    this.limits.stop();
  }
}

/** Whose turn it is to be stored when something is owed that comes from no reading. */
const OWED_ALONE = '';

const asKnown = (reading: Reading): Reading => reading;
/** Whether a carrier takes what it owes, on no link. */
const isCarried = ({ protocol }: OutboundConfig): boolean => Boolean(definitionOf(protocol).publishes?.carried);
/** Whether the exchange holds the device's points. */
const isKnown = ({ life }: DeviceConfig): boolean => life !== 'drafted';

const hopOfLink = (code: string, link: LinkRunner | OutboundLink): Hop => ({
  kind: 'link',
  code,
  essence: () => link.essence(),
  state: () => link.state(),
});
