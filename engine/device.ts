import type { DeviceConfig, LinkConfig } from '@halvix/core/config';
import {
  iinWords,
  Master,
  type ControlRequest,
  type DeviceAttribute,
  type MasterCommand,
  type MasterEffect,
} from '@halvix/core/dnp3';
import type { DeviceState, LinkState } from '@halvix/core/path';
import type { SurveyedPoint } from '@halvix/core/survey';
import { clock, Driver, TcpClient } from '@halvix/wire';
import { Ingest, type IngestContext } from './ingest.ts';

export interface DeviceContext extends IngestContext {
  /** Progress of a control that was given to this device. */
  onControl: (progress: MasterEffect & { type: 'control' }) => void;
  /** The state of a hop changed: publish it soon. */
  changed: () => void;
}

export interface SurveyAnswer {
  found: SurveyedPoint[];
  attributes: DeviceAttribute[];
  problem: string | null;
}

/** One device on its link: polls it, and passes on what comes. */
export class DeviceRunner {
  private readonly master: Master;
  private readonly driver: Driver<MasterCommand, MasterEffect>;
  private readonly link: TcpClient;
  private readonly ingest: Ingest;
  private state: Pick<DeviceState, 'state' | 'since' | 'words'>;
  private readonly surveys = new Map<
    string,
    {
      found: Map<string, SurveyedPoint>;
      done: (result: SurveyAnswer) => void;
    }
  >();
  private lastGood: number | null = null;
  private roundTripMs: number | null = null;

  constructor(
    public config: DeviceConfig,
    readonly linkConfig: LinkConfig,
    remembered: readonly number[],
    private readonly context: DeviceContext,
  ) {
    this.ingest = new Ingest(config, remembered, context);
    this.state = { state: 'unknown', since: clock.now(), words: 'not asked yet' };
    this.master = new Master(config.settings, clock.now());
    this.link = new TcpClient(linkConfig, {
      up: () => this.driver.start(),
      down: () => this.driver.stop(),
      data: (bytes) => this.driver.receive(bytes),
      changed: () => context.changed(),
    });
    this.driver = new Driver(this.master, (effect) => this.onEffect(effect));
  }

  start(): void {
    this.link.open();
  }

  /** Ends the session; returns the replay keys that whoever goes on with the device has to know. */
  stop(): readonly number[] {
    this.link.close();
    this.driver.stop();
    this.driver.close();
    this.ingest.close();
    return this.ingest.remembered;
  }

  /** Goes on with another point list: the session does not notice. */
  adopt(config: DeviceConfig): void {
    this.config = config;
    this.ingest.adopt(config);
    this.pollNow();
  }

  /** Asks the device for the present value of all that it has; resolves with what came. */
  survey(id: string): Promise<SurveyAnswer> {
    return new Promise((resolve) => {
      this.surveys.set(id, { found: new Map(), done: resolve });
      this.driver.command({ type: 'survey', id });
    });
  }

  control(request: ControlRequest): void {
    this.driver.command(request);
  }

  pollNow(): void {
    this.driver.command({ type: 'pollNow' });
  }

  resetCounters(): void {
    this.driver.command({ type: 'resetCounters' });
    this.context.changed();
  }

  deviceState(): DeviceState {
    return {
      ...this.state,
      lastGood: this.lastGood,
      roundTripMs: this.roundTripMs,
      lastCommit: this.ingest.lastCommit,
      nextIntegrity: this.master.nextIntegrity,
      indications: iinWords(this.master.indications),
      counters: this.master.counters.values,
      countersSince: this.master.counters.since,
    };
  }

  linkState(): LinkState {
    return { ...this.link.state, endpoint: `${this.linkConfig.host}:${this.linkConfig.port}` };
  }

  private onEffect(effect: MasterEffect): void {
    switch (effect.type) {
      case 'send':
        this.link.send(effect.octets);
        break;
      case 'readings':
        this.onReadings(effect);
        break;
      case 'settled':
        this.ingest.settle(effect.classes, effect.waiting);
        break;
      case 'doubt':
        this.ingest.doubt();
        break;
      case 'communication':
        this.onCommunication(effect.state, effect.words);
        break;
      case 'answered':
        this.lastGood = clock.now();
        this.roundTripMs = effect.roundTripMs;
        break;
      case 'surveyed': {
        const survey = this.surveys.get(effect.id);
        this.surveys.delete(effect.id);
        survey?.done({ found: [...survey.found.values()], attributes: effect.attributes, problem: effect.problem });
        break;
      }
      case 'control':
        this.context.onControl(effect);
        break;
      case 'clock':
      case 'ordered':
      case 'texts':
      case 'commandsReported':
        break;
      case 'diagnostic':
        this.context.journal.note(this.config.code, 'warning', effect.words);
        break;
      default:
        effect satisfies never;
    }
  }

  private onReadings(effect: MasterEffect & { type: 'readings' }): void {
    const { readings, received, token, survey } = effect;
    const asked = survey === undefined ? undefined : this.surveys.get(survey);
    if (asked)
      for (const { kind, index, group, variation, value, flags } of readings)
        asked.found.set(`${kind} ${index}`, { kind, index, group, variation, value, flags });
    const committed = token === null ? null : (): void => this.driver.command({ type: 'committed', token });
    this.ingest.take(readings, received, committed, effect);
  }

  private onCommunication(state: 'answering' | 'silent', words: string): void {
    const { journal, changed } = this.context;
    const first = this.state.state === 'unknown';
    this.state = { state, since: clock.now(), words };
    if (state === 'silent') {
      this.ingest.loseAll();
      journal.note(this.config.code, 'lost', `no communication: ${words}`);
    } else if (!first) journal.note(this.config.code, 'plain', 'answers again');
    changed();
  }
}
