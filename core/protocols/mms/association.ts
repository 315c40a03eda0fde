import { concat, sameBytes } from '../../bytes/index.ts';
import type { Instant, Result } from '../../session/index.ts';
import { decodeApdu, diagnosticWords, encodeApdu, type AssociateRequest, type Title } from './wire/acse.ts';
import {
  DEFAULT_SIZE,
  decodeTpdu,
  encodeTpdu,
  reasonWords,
  segments,
  sizeAtMost,
  type Connect,
  type Tpdu,
} from './wire/cotp.ts';
import { decodePdu, encodePdu, errorWords, type Negotiated, type Pdu } from './wire/pdu.ts';
import {
  ABSTRACT,
  CONTEXTS,
  decodeAccept,
  decodeConnect,
  decodeUserData,
  encodeAccept,
  encodeConnect,
  encodeUserData,
} from './wire/presentation.ts';
import { decodeSpdu, encodeSpdu, type Spdu } from './wire/session.ts';
import { encodeTpkt, TpktReader } from './wire/tpkt.ts';

/*
 * One association over one connection, either end of it: transport, session, presentation and association control, with
 * the agreement of MMS carried in their connects.
 *
 * state      what happens                                   becomes    and then
 * ---------  ---------------------------------------------  ---------  ---------------------------------------------
 * idle       `start`, as the calling end                    transport  CR goes out
 * idle       CR, as the called end                          waiting    CC goes out
 * transport  CC                                             asking     all connects go out in one message
 * asking     accept, associated, initiated                  open       it is told, with what was agreed on
 * asking     a refusal of any layer                         closed     it is told, with the reason in words
 * waiting    all connects in one message                    asked      the owner is asked
 * asked      `accept` / `refuse`                            open /     the answer goes out
 *                                                           closed
 * open       a message                                      open       it is handed out
 * open       conclude, from either end                      closing    concluded, then the release
 * any        abort, disconnect, what is not well-formed,    closed     it is told
 *            `timeoutMs` while it is made or ended
 */

/** By which an end is found behind its address; empty: not said. */
export interface Selectors {
  transport: Uint8Array;
  session: Uint8Array;
  presentation: Uint8Array;
}

export interface AssociationSettings {
  ours: Selectors;
  theirs: Selectors;
  ourTitle: Title | null;
  theirTitle: Title | null;
  password: string | null;
  /** What we propose, or take at most. */
  agreement: Negotiated;
  /** Octets of a transport message, a power of two up to 8192. */
  tpduSize: number;
  /** How long making it, or ending it, may take. */
  timeoutMs: number;
}

/** Who asks to be associated with us. */
export interface Caller {
  selectors: Selectors;
  title: Title | null;
  password: string | null;
  agreement: Negotiated;
}

export type AssociationEffect =
  | { type: 'send'; octets: Uint8Array }
  | { type: 'asked'; caller: Caller }
  | { type: 'open'; agreement: Negotiated }
  /** A message, with its octets. */
  | { type: 'pdu'; pdu: Pdu; octets: Uint8Array }
  /** A message that is not what it has to be; the association stands. */
  | { type: 'malformed'; words: string; octets: Uint8Array }
  /** The connection is to be ended. */
  | { type: 'closed'; words: string; byUs: boolean };

type State = 'idle' | 'transport' | 'waiting' | 'asking' | 'asked' | 'open' | 'closing' | 'closed';

/** Beyond what was agreed on: the headers of presentation and session. */
const HEADERS_OCTETS = 64;
/** Of a message when nothing is agreed on, while the association is made and after. */
const MOST_OCTETS = 1_000_000;
const ACSE_CONTEXT = CONTEXTS[0].id;
const NONE = new Uint8Array();
/** Where a reference of ours is needed: one connection carries one association. */
const OUR_REFERENCE = 1;

export class Association {
  state: State = 'idle';
  private effects: AssociationEffect[] = [];
  private readonly packets = new TpktReader();
  private parts: Uint8Array[] = [];
  private partOctets = 0;
  private tpduSize = DEFAULT_SIZE;
  private mostOctets = MOST_OCTETS;
  /** The presentation context of MMS. */
  private mmsContext = CONTEXTS[1].id;
  /** Of the contexts that a caller proposed, which we take. */
  private results: number[] = [];
  private acseContext = ACSE_CONTEXT;
  private deadlineAt: Instant | null = null;

  constructor(
    readonly settings: AssociationSettings,
    private readonly role: 'calling' | 'called',
  ) {}

  get deadline(): Instant | null {
    return this.deadlineAt;
  }

  take(): AssociationEffect[] {
    const { effects } = this;
    this.effects = [];
    return effects;
  }

  // ---- what the owner wants

  /** The connection is there. */
  start(now: Instant): void {
    this.deadlineAt = now + this.settings.timeoutMs;
    if (this.role === 'called') return;
    this.state = 'transport';
    const { ours, theirs, tpduSize } = this.settings;
    this.sendTpdu({
      ...{ type: 'connectRequest', destination: 0, source: OUR_REFERENCE, class: 0, size: sizeAtMost(tpduSize) },
      ...selector('calling', ours.transport),
      ...selector('called', theirs.transport),
    });
  }

  wake(now: Instant): void {
    if (this.deadlineAt === null || now < this.deadlineAt) return;
    const words = this.state === 'closing' ? 'its end was not confirmed in time' : 'the association took too long';
    this.close(words, true);
  }

  send(pdu: Pdu): void {
    this.sendEncoded(encodePdu(pdu));
  }

  /** The octets of a message of MMS. */
  sendEncoded(octets: Uint8Array): void {
    if (this.state === 'open' || this.state === 'closing') this.sendValue(this.mmsContext, octets);
  }

  /** Ends it in order: both sides are done with what is under way. */
  conclude(now: Instant): void {
    if (this.state !== 'open') return;
    this.state = 'closing';
    this.deadlineAt = now + this.settings.timeoutMs;
    this.sendValue(this.mmsContext, encodePdu({ type: 'conclude' }));
  }

  /** Ends it at once. */
  abort(words: string): void {
    if (this.state === 'open' || this.state === 'closing' || this.state === 'asking' || this.state === 'asked') {
      const apdu = encodeApdu({ type: 'aborted', byUser: true }, this.mmsContext);
      this.sendSpdu({ type: 'abort', data: encodeUserData({ context: this.acseContext, octets: apdu }) });
    }
    this.close(words, true);
  }

  /** The caller is welcome, with what it can have of what it proposed. */
  accept(agreement: Negotiated): void {
    if (this.state !== 'asked') return;
    this.answer(0, 0, encodePdu({ type: 'initiated', agreement }));
    this.opened(agreement);
  }

  /** `diagnostic` as of association control: 13, the password is wrong. */
  refuse(diagnostic: number, words: string): void {
    if (this.state !== 'asked') return;
    this.answer(1, diagnostic, NONE);
    this.close(words, true);
  }

  private answer(result: number, diagnostic: number, user: Uint8Array): void {
    const apdu = encodeApdu({ type: 'associated', result, source: 'user', diagnostic, user }, this.mmsContext);
    const value = { context: this.acseContext, octets: apdu };
    const { ours } = this.settings;
    const responding = ours.presentation.length > 0 ? ours.presentation : undefined;
    this.sendSpdu({
      ...{ type: 'accept', data: encodeAccept({ results: this.results, user: value }, responding) },
      ...selector('called', ours.session),
    });
  }

  // ---- what comes

  receive(bytes: Uint8Array, now: Instant): void {
    for (const packet of this.packets.push(bytes)) {
      if (this.state === 'closed') return;
      const tpdu = decodeTpdu(packet);
      if (tpdu.ok) this.onTpdu(tpdu.value, now);
      else this.fail(tpdu.problem);
    }
    if (this.packets.problem !== null) this.fail(this.packets.problem);
  }

  private onTpdu(tpdu: Tpdu, now: Instant): void {
    switch (tpdu.type) {
      case 'connectRequest':
        return this.onConnectRequest(tpdu);
      case 'connectConfirm':
        if (this.state !== 'transport') return this.fail('a confirm of a connection that nobody asked for');
        return this.onConnectConfirm(tpdu);
      case 'disconnect':
        return this.close(`disconnected: ${reasonWords(tpdu.reason)}`, false);
      case 'error':
        return this.close(`the transport there found an error (${tpdu.reason})`, false);
      case 'data':
        return this.onData(tpdu, now);
      default:
        return tpdu satisfies never;
    }
  }

  /** Who asks for a better class can have this one, which everybody has (ISO 8073, 6.5). */
  private onConnectRequest({ source, size, calling, called }: Connect): void {
    if (this.role !== 'called' || this.state !== 'idle') return this.fail('a connection within a connection');
    const { ours, tpduSize } = this.settings;
    if (ours.transport.length > 0 && called !== undefined && !sameBytes(called, ours.transport)) {
      this.sendTpdu({ type: 'disconnect', destination: source, source: 0, reason: 3 });
      return this.close('called a transport selector that is not ours', true);
    }
    this.tpduSize = Math.min(size ?? DEFAULT_SIZE, sizeAtMost(tpduSize));
    this.state = 'waiting';
    this.sendTpdu({
      ...{ type: 'connectConfirm', destination: source, source: OUR_REFERENCE, class: 0, size: this.tpduSize },
      ...selector('calling', calling ?? NONE),
      ...selector('called', called ?? NONE),
    });
  }

  private onConnectConfirm({ size, class: chosen }: Connect): void {
    if (chosen !== 0) return this.fail(`transport class ${chosen} was chosen, which was not offered`);
    this.tpduSize = Math.min(size ?? DEFAULT_SIZE, sizeAtMost(this.settings.tpduSize));
    this.state = 'asking';
    const { ours, theirs, ourTitle, theirTitle, password, agreement } = this.settings;
    const user = encodePdu({ type: 'initiate', agreement });
    const request: AssociateRequest = { type: 'associate', called: theirTitle, calling: ourTitle, password, user };
    const octets = encodeApdu(request, this.mmsContext);
    const connect = encodeConnect({
      ...selector('calling', ours.presentation),
      ...selector('called', theirs.presentation),
      ...{ contexts: CONTEXTS, user: { context: ACSE_CONTEXT, octets } },
    });
    this.sendSpdu({
      ...{ type: 'connect', data: connect },
      ...selector('calling', ours.session),
      ...selector('called', theirs.session),
    });
  }

  private onData({ last, data }: Tpdu & { type: 'data' }, now: Instant): void {
    this.partOctets += data.length;
    if (this.partOctets > this.mostOctets + HEADERS_OCTETS)
      return this.fail(`a message of more than the ${this.mostOctets} octets that were agreed on`);
    this.parts.push(data);
    if (!last) return;
    const message = this.parts.length === 1 ? this.parts[0] : concat(this.parts);
    this.parts = [];
    this.partOctets = 0;
    const spdu = decodeSpdu(message);
    if (spdu.ok) this.onSpdu(spdu.value, now);
    else this.fail(spdu.problem);
  }

  private onSpdu(spdu: Spdu, now: Instant): void {
    switch (spdu.type) {
      case 'connect':
        if (this.state !== 'waiting') return this.fail('a session within a session');
        return this.onConnect(spdu);
      case 'accept':
        if (this.state !== 'asking') return this.fail('an accept of a session that nobody asked for');
        return this.onAccept(spdu.data);
      case 'refuse':
        return this.close(this.refusalWords(spdu.data, spdu.reason), false);
      case 'data':
        return this.onUserData(spdu.data, now);
      case 'finish':
        return this.onFinish();
      case 'disconnect':
        return this.close('ended', this.role === 'calling');
      case 'abort':
        this.sendSpdu({ type: 'abortAccept' });
        return this.close('aborted there', false);
      case 'abortAccept':
        return;
      default:
        return spdu satisfies never;
    }
  }

  private onConnect({ calling, data }: Spdu & { type: 'connect' | 'accept' }): void {
    const connect = decodeConnect(data);
    if (!connect.ok) return this.fail(connect.problem);
    const { contexts, user } = connect.value;
    const mms = contexts.find(({ abstract }) => abstract === ABSTRACT.mms);
    const acse = contexts.find(({ abstract }) => abstract === ABSTRACT.acse);
    if (mms === undefined || acse === undefined) return this.fail('no context for MMS');
    this.mmsContext = mms.id;
    this.acseContext = acse.id;
    this.results = contexts.map((one) => (one === mms || one === acse ? 0 : 2));
    const apdu = decodeApdu(user.octets);
    if (!apdu.ok) return this.fail(apdu.problem);
    if (apdu.value.type !== 'associate') return this.fail('a connect that does not ask for an association');
    const initiate = decodePdu(apdu.value.user);
    if (!initiate.ok) return this.fail(initiate.problem);
    if (initiate.value.type !== 'initiate') return this.fail('an association that does not begin with initiate');
    this.state = 'asked';
    const selectors = {
      transport: NONE,
      session: calling ?? NONE,
      presentation: connect.value.calling ?? NONE,
    };
    const { calling: title, password } = apdu.value;
    this.effects.push({ type: 'asked', caller: { selectors, title, password, agreement: initiate.value.agreement } });
  }

  private onAccept(data: Uint8Array): void {
    const accept = decodeAccept(data);
    if (!accept.ok) return this.fail(accept.problem);
    if (accept.value.results[1] !== 0) return this.close('MMS is not spoken there', false);
    const apdu = decodeApdu(accept.value.user.octets);
    if (!apdu.ok) return this.fail(apdu.problem);
    const { value } = apdu;
    if (value.type !== 'associated') return this.fail('an accept without the answer to the association');
    if (value.result !== 0) return this.close(`the association was refused: ${diagnosticWords(value)}`, false);
    const initiated = decodePdu(value.user);
    if (!initiated.ok) return this.fail(initiated.problem);
    if (initiated.value.type === 'initiateError')
      return this.close(`MMS was refused: ${errorWords(initiated.value.error)}`, false);
    if (initiated.value.type !== 'initiated') return this.fail('an association without an agreement');
    this.opened(initiated.value.agreement);
  }

  private opened(agreement: Negotiated): void {
    this.state = 'open';
    this.deadlineAt = null;
    // What we send keeps to what is agreed on; what comes may be as large as we said that we take.
    this.mostOctets = Math.max(agreement.size ?? MOST_OCTETS, this.settings.agreement.size ?? MOST_OCTETS);
    this.effects.push({ type: 'open', agreement });
  }

  private refusalWords(data: Uint8Array, reason: number | null): string {
    const accept: Result<{ user: { octets: Uint8Array } }, string> = decodeAccept(data);
    const apdu = accept.ok ? decodeApdu(accept.value.user.octets) : null;
    if (apdu?.ok && apdu.value.type === 'associated')
      return `the association was refused: ${diagnosticWords(apdu.value)}`;
    return `the session was refused${reason === null ? '' : ` (${reason})`}`;
  }

  private onUserData(data: Uint8Array, now: Instant): void {
    if (this.state !== 'open' && this.state !== 'closing') return this.fail('data before the association');
    const value = decodeUserData(data);
    if (!value.ok) return this.fail(value.problem);
    if (value.value.context !== this.mmsContext) return this.fail(`data of context ${value.value.context}`);
    const { octets } = value.value;
    const pdu = decodePdu(octets);
    if (!pdu.ok) {
      this.effects.push({ type: 'malformed', words: pdu.problem, octets });
      return;
    }
    if (pdu.value.type === 'conclude') {
      this.state = 'closing';
      this.deadlineAt = now + this.settings.timeoutMs;
      this.sendValue(this.mmsContext, encodePdu({ type: 'concluded' }));
    } else if (pdu.value.type === 'concluded') this.release();
    else if (pdu.value.type === 'concludeError') {
      this.state = 'open';
      this.deadlineAt = null;
    } else this.effects.push({ type: 'pdu', pdu: pdu.value, octets });
  }

  /** After both sides have concluded: the layers below end too. */
  private release(): void {
    const apdu = encodeApdu({ type: 'release', reason: 0 }, this.mmsContext);
    this.sendSpdu({ type: 'finish', data: encodeUserData({ context: this.acseContext, octets: apdu }) });
  }

  private onFinish(): void {
    const apdu = encodeApdu({ type: 'released', reason: 0 }, this.mmsContext);
    this.sendSpdu({ type: 'disconnect', data: encodeUserData({ context: this.acseContext, octets: apdu }) });
    this.close('ended there', false);
  }

  /** What came is not what it has to be. */
  private fail(words: string): void {
    if (this.state === 'closed') return;
    this.abort(`not understood: ${words}`);
  }

  private close(words: string, byUs: boolean): void {
    if (this.state === 'closed') return;
    this.state = 'closed';
    this.deadlineAt = null;
    this.effects.push({ type: 'closed', words, byUs });
  }

  // ---- what goes out

  private sendValue(context: number, octets: Uint8Array): void {
    this.sendSpdu({ type: 'data', data: encodeUserData({ context, octets }) });
  }

  private sendSpdu(spdu: Spdu): void {
    const packets = segments(encodeSpdu(spdu), this.tpduSize).map(encodeTpkt);
    this.effects.push({ type: 'send', octets: packets.length === 1 ? packets[0] : concat(packets) });
  }

  private sendTpdu(tpdu: Tpdu): void {
    this.effects.push({ type: 'send', octets: encodeTpkt(encodeTpdu(tpdu)) });
  }
}

const selector = <Name extends string>(name: Name, octets: Uint8Array): Partial<Record<Name, Uint8Array>> =>
  octets.length > 0 ? ({ [name]: octets } as Partial<Record<Name, Uint8Array>>) : {};
