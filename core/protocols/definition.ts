import { z } from 'zod';
import type { LinkType } from '../line/index.ts';
import type { Operation, PointKind, ScaledPoint } from '../point/index.ts';
import type { Result } from '../session/index.ts';
import type { ControlMode, Refusal } from './control.ts';
import type { TwoEnds } from './ends.ts';
import type { Carried } from './publishing/form.ts';
import type { SettingField } from './settingfield.ts';

/*
 * What a protocol says of itself, as data. Nobody outside its folder knows more of it than this, and the browser loads
 * it too: no session, no machine.
 */

/** A point's place in its protocol, with what else only that protocol says of a point. */
export interface At {
  protocol: string;
}

/** A point as its address is made from it. */
export interface Placed<Of extends At = At> {
  kind: PointKind;
  at: Of;
}

/** One thing that only this protocol says of a point, as a column of its lists. */
export interface AtField<Draft extends At> {
  key: string;
  title: string;
  /** What may stand in the cell. */
  help: string;
  /** Headings that lists from elsewhere use (common practice), in small letters. */
  aliases: readonly string[];
  choices?: readonly string[];
  numeric?: boolean;
  /** It is how a setpoint is set: empty while that is not said, and emptied it means that it is only seen. */
  isSetting?: boolean;
  text: (point: Placed<Draft>) => string;
  /** The place as it is with that text, or what is wrong with it. */
  set: (point: Placed<Draft>, text: string) => Result<Draft, string>;
}

/** How the points of a device are addressed. */
export interface PointAddressing<Of extends At, Draft extends At, Settings> {
  /** Of a point that runs. */
  at: z.ZodType<Of>;
  /** Of one in a draft: the address itself may be missing still. */
  draftAt: z.ZodType<Draft>;
  /** The kinds of points that it has. */
  kinds: readonly PointKind[];
  /** What a place is where nothing is said: left out where points are stored, and read again by this, so never changed. */
  defaults: Readonly<Partial<Draft>>;
  /** What history keeps of a new point. */
  history: 'every' | 'deadband';
  /** An output shows by itself what it was set to: that is its feedback where nothing else is. */
  outputShows: boolean;
  /** Of a new point, without an address. */
  blank: (kind: PointKind) => Draft;
  /** What people write: as printed, or nearly; null when it is none. The kind is the usual one of such an address. */
  parse: (text: string) => Placed<Of> | null;
  /** The cell of the address in a list. */
  cell: Omit<AtField<Draft>, 'set' | 'isSetting'> & {
    set: (point: Placed<Draft>, text: string) => Result<Placed<Draft>, string>;
  };
  /**
   * Addresses are numbers in series, each with its own; a point takes as many as it is wide. Where they are no numbers,
   * none of the next five means anything.
   */
  isNumbered: boolean;
  series: (point: Placed<Draft>) => string;
  number: (at: Draft) => number | null;
  withNumber: (at: Draft, number: number | null) => Draft;
  width: (point: Placed<Draft>) => number;
  /** The highest number of a series. */
  highest: number;
  /** The other columns of its lists. */
  fields: readonly AtField<Draft>[];
  /** What does not fit of one point, the settings of its device given; null: not known. */
  check: (point: Placed<Draft>, settings: Settings | null) => AtProblem[];
  /** What goes out to set a point to so many counts; or why that cannot be sent. */
  sendable: (point: Placed<Draft>, counts: number) => Result<number, string>;
  /** What goes out for a point to say a text; or why it cannot. Absent: no text can be written. */
  writable?: (point: Placed<Draft>, text: string) => Result<string, string>;
  /** How a value to set is sent: `int32`. */
  form: (point: Placed<Draft>) => string;
  /** What else of the configuration an address names, and the address once that is called otherwise; absent: nothing. */
  names?: {
    of: (at: Draft) => Named | null;
    renamed: (at: Draft, named: Named) => Draft;
  };
  /** Points that can be had as things are configured, without asking anybody; absent: the device has to be asked. */
  obtainable?: (system: {
    devices: readonly { code: string; name: string }[];
    outbounds: readonly { code: string; centre: string }[];
  }) => (Placed<Of> & { name: string; states: string[] })[];
}

/** A device, one point of it by its address as text, or an outbound. */
export interface Named {
  kind: 'device' | 'outbound';
  code: string;
  point: string | null;
}

export interface AtProblem {
  severity: 'problem' | 'warning';
  /** Key of the field. */
  field: string;
  words: string;
}

/** A point as an outbound offers it. */
export interface Offered<Target extends At> {
  kind: PointKind;
  at: Target;
  value: 'raw' | 'engineering';
}

/** How points are offered to others. */
export interface TargetAddressing<Target extends At, Settings> {
  at: z.ZodType<Target>;
  /** As with points: numbers in series. */
  series: (offered: Placed<Target>) => string;
  number: (at: Target) => number;
  width: (offered: Placed<Target>) => number;
  highest: number;
  /** The place that is usual for a kind at a number of its series. */
  propose: (
    kind: PointKind,
    number: number,
    value: 'raw' | 'engineering',
    /** By the paths of `ruleFields`. */
    choices: Readonly<Record<string, string>>,
    /** The point that is handed on, where it is known. */
    source?: { device: string; point: string },
  ) => Target;
  /** What a rule may say beside numbers. */
  ruleFields: readonly SettingField[];
  /** Why what is offered does not fit its source well; null when it does. */
  misfit: (source: ScaledPoint & { kind: PointKind }, target: Offered<Target>) => string | null;
  /** What cannot be offered like that, by an outbound with such settings; null: not known. */
  problems: (target: Offered<Target>, settings: Settings | null) => string[];
  /** All places that there are for a kind; null, absent: any. `own`: it is what a source of that address is itself. */
  places?: (
    settings: Settings,
    kind: PointKind,
    source: string,
  ) => readonly { words: string; at: Target; own: boolean }[] | null;
  /** By which the centre asks for it; absent: by the address as it is printed. */
  seen?: (target: Offered<Target>, settings: Settings) => string;
  /** How it is offered: `g30v1, g32v3 class 2`. */
  words: (target: Offered<Target>) => string;
  /** How people change it; paths within `at`. */
  fields: readonly SettingField[];
  /** Columns of the sheet for the other side. */
  sheet: readonly { title: string; text: (target: Offered<Target>) => string }[];
}

/** How octets go to a device. */
export interface LinkTiming {
  framing: string;
  /** What an octet takes, milliseconds; 0: there is no line. */
  octetMs: number;
}

/** One request of a plan. */
export interface PlannedRequest {
  /** What it asks for: `holding registers 100 to 224`. */
  words: string;
  points: number;
  /** How much of what it brings is asked for, and how much it brings. */
  wanted: number;
  read: number;
  /** On the line, both ways. */
  octets: number;
}

/** The requests that bring a device's list, by the periods in which they go out. */
export interface RequestPlan {
  rounds: { what: string; everyMs: number; requests: PlannedRequest[] }[];
}

/** One end of a session. */
export interface Side<Settings> {
  settings: z.ZodType<Settings>;
  fields: readonly SettingField[];
  /** What has to be given for a new one, as it is to begin with. */
  first: Partial<Settings>;
  /** Settings that differ from one to the next of its kind, and are no part of a profile. */
  placed: readonly (keyof Settings & string)[];
  /** Settings that a running session adopts (`setSettings`); any other begins a new one. */
  adopts: readonly (keyof Settings & string)[];
  /** Settings that the address plan shows as our and their address; null: there is none. */
  plan: { ours: (keyof Settings & string) | null; theirs: (keyof Settings & string) | null };
  /** How it is addressed, in words: `address 21`. */
  where: (settings: Settings) => string;
  /** Differs among all of one line or port. */
  key: (settings: Settings) => string;
  /** What both ends have to be set to. */
  ends: (settings: Settings) => TwoEnds[];
  /** What does not fit within the settings. */
  check: (settings: Settings) => string[];
}

export interface DeviceSide<Settings, Draft extends At> extends Side<Settings> {
  /** Why it refused a control, by the status that it gave. */
  refusal: (status: number) => Refusal;
  /** How long the device may take to answer, milliseconds. */
  answerWithinMs: (settings: Settings) => number;
  /** The same without polls, for a link on which each call begins with everything. */
  unpolled: (settings: Settings) => Settings;
  /** Times of the device further off from ours are kept but marked, milliseconds; null: it gives none. */
  timeBounds: (settings: Settings) => { aheadMs: number; behindMs: number } | null;
  /** What is asked how often, in words; 0: never. */
  polls: (settings: Settings) => { what: string; everyMs: number }[];
  /** Which requests bring a list, on such a link; null: the protocol does not plan any. */
  requests: ((points: readonly Placed<Draft>[], settings: Settings, link: LinkTiming) => RequestPlan) | null;
  /** Sessions take turns on a link; else each has its connection for itself. */
  takesTurns: boolean;
  /** What its session knows beside its points, in a word or two for people; null: nothing. */
  details: string | null;
  /** What a trial does, in a line, and its steps. */
  trial: { words: string; steps: Readonly<Record<string, string>> };
  /** What a person may ask of it beyond its points. */
  orders: {
    schema: z.ZodType;
    words: (order: unknown) => string;
    /** Whether it changes how the device works, rather than ask it for something. */
    changes: (order: unknown) => boolean;
    /** What is asked with a button: `Ask the device to take our time`. */
    asks: readonly { words: string; order: unknown }[];
    /** What all devices of a line can be told at once; none of them answers. */
    broadcasts: readonly { words: string; order: unknown }[];
    /** What is asked first for an answer in tables, which tell what can be asked next; null: nothing is. */
    inquiry: { title: string; words: string; order: unknown } | null;
    restart: ((how: 'cold' | 'warm') => unknown) | null;
    /** Whether it has files to give. */
    files: boolean;
    /** Ways of a control; the first is usual. */
    modes: readonly ControlMode[];
  };
}

/** A device of a common sort: a beginning to be adapted, of no particular make. */
export interface GenericProfile {
  code: string;
  name: string;
  description: string;
  settings: object;
  /** `fields`: texts by the keys of fields. */
  points: readonly { kind: PointKind; number: number; name: string; fields: Readonly<Record<string, string>> }[];
}

/** A point as a file describes it. */
export interface DescribedPoint {
  kind: PointKind;
  address: string;
  name: string;
  unit: string;
  /** Of an output: what it is usually asked to do. */
  operations?: readonly Operation[];
  /** The device tells its changes by itself. */
  isReported: boolean;
}

/** A device as a file describes it. */
export interface DescribedDevice {
  name: string;
  description: string;
  /** Make and type, in words. */
  about: string;
  /** Empty, null: the file does not say. */
  host: string;
  port: number | null;
  /** Settings that are not as usual. */
  settings: Readonly<Record<string, unknown>>;
  points: readonly DescribedPoint[];
  /** What else the file says of it, in words. */
  notes: readonly string[];
}

export interface Described {
  /** What the file is, in words. */
  about: string;
  devices: readonly DescribedDevice[];
  problems: readonly { line: number; severity: 'problem' | 'warning'; words: string }[];
}

/** Reads a file that describes devices, piece by piece. */
export interface DescriptionReader {
  push(text: string): void;
  end(): Described;
}

/** Files that describe devices of a protocol. */
export interface DescriptionFile {
  /** `substation configuration (SCL)`. */
  words: string;
  /** `.icd`. */
  extensions: readonly string[];
  /** What reads them, which is only loaded when there is something to read. */
  reader: () => Promise<DescriptionReader>;
}

/** What an outbound offers, as a file for the people at the other end. */
export interface OfferFile<Settings, Target extends At> {
  /** `its model as a file (CID)`. */
  words: string;
  extension: string;
  /** `host`: where it is reached; empty: not known. Made by what is only loaded when somebody wants it. */
  make: (offer: {
    code: string;
    centre: string;
    host: string;
    port: number;
    settings: Settings;
    points: readonly { kind: PointKind; at: Target; name: string; unit: string }[];
  }) => Promise<string>;
}

/** How addresses are written: of points, and of what is offered to others. */
export interface AddressText<Any extends At> {
  /** Empty while it has none. */
  print: (point: Placed<Any>) => string;
  /** A text whose order is the one in which people read them. */
  sort: (point: Placed<Any>) => string;
}

/** Devices that are on links: they are asked, or tell by themselves. */
export interface DeviceRole<Settings, Draft extends At> extends DeviceSide<Settings, Draft> {
  links: readonly LinkType[];
  /** The TCP port that is usual. */
  port: number;
  profiles: readonly GenericProfile[];
  /** Files from which devices are taken; null: there are none. */
  descriptions: DescriptionFile | null;
}

/** Devices without a link: what their points say is known here. */
export type SourceRole<Settings> = Side<Settings>;

/** A way out: points are handed on to others. */
export interface WayOut<Settings, Target extends At> extends Side<Settings> {
  /** On which links, the first of them usual; empty: it has none. */
  links: readonly LinkType[];
  /** The port that we listen on, or go to, unless somebody says otherwise. */
  port: number;
  targets: TargetAddressing<Target, Settings>;
  /**
   * A connection is one outbound's alone: of those that share a key it is the one whose networks, and whose name in a
   * certificate, are the caller's. Absent: frames tell whose they are, one by one.
   */
  byCaller?: boolean;
  /**
   * A centre that is a device too may be both in one conversation, on the link of either: `association`, as it is
   * called. Absent: each has its own.
   */
  shares?: string;
  /**
   * By which the other side tells us from others who come to it: of two with the same, at most one gets on. Absent: it knows
   * only one of us.
   */
  knownBy?: (settings: Settings) => string;
  /** Addresses of targets that the settings name: something has to be mapped there. Absent: they name none. */
  namesTargets?: (settings: Settings) => readonly string[];
  /** The other side may say nothing for ever: its connection alone says that it is there. */
  quiet?: boolean;
  /**
   * What people here can have it do besides: `report all values now`. `text`: what has to be written for it;
   * `careful`: what is to be known before it is done.
   */
  orders?: Readonly<Record<string, { words: string; text?: string; careful?: string }>>;
  /** What its session knows beside its counters: `Transfer sets`. */
  details?: string;
  /** Absent: there are none. */
  files?: readonly OfferFile<Settings, Target>[];
}

/** We push: nobody asks. */
export interface PublishingRole<Settings, Target extends At> extends WayOut<Settings, Target> {
  /**
   * What takes packets to their destination where a library owns the way there (`engine/carriers`), and what records
   * and packets look like; null: the protocol has a session of its own, which begins to speak on its link.
   */
  carried: Carried<Settings, Target> | null;
}

/**
 * One protocol: its roles, each or none. A device or a source has points; who offers is asked for them, who publishes
 * pushes them.
 */
export interface Definition<
  Settings,
  OutboundSettings,
  Of extends At,
  Draft extends At,
  Target extends At,
  Code extends string = string,
> {
  code: Code;
  words: {
    name: string;
    /** `master`, `outstation`: our role towards a device, and its; of what is only published: ours, and theirs. */
    us: string;
    them: string;
  };
  /** How frames are told apart on a link, where there is a choice; the first that goes on its type is usual. */
  framings: readonly { code: string; words: string; links: readonly LinkType[] }[];
  /** What sessions count, in words; which of it matters always, and which says that something is wrong. */
  counters: {
    words: Readonly<Record<string, string>>;
    device: readonly string[];
    outbound: readonly string[];
    trouble: readonly string[];
  };
  address: AddressText<Draft | Target>;
  device: DeviceRole<Settings, Draft> | null;
  source: SourceRole<Settings> | null;
  /** Of its devices or sources; null: it has neither. */
  points: PointAddressing<Of, Draft, Settings> | null;
  offers: WayOut<OutboundSettings, Target> | null;
  publishes: PublishingRole<OutboundSettings, Target> | null;
}

// ---- what says nothing

/** Of a protocol that has no devices and no sources. */
export const NO_POINTS = { device: null, source: null, points: null } as const;
/** Of a protocol in which nothing is asked beyond points. */
export const NO_ORDERS = {
  schema: z.never(),
  words: () => '',
  changes: () => false,
  asks: [],
  broadcasts: [],
  inquiry: null,
  restart: null,
  files: false,
  modes: [],
};
/** Of one that counts nothing. */
export const NO_COUNTERS = { words: {}, device: [], outbound: [], trouble: [] };
/** Of one whose devices are not tried. */
export const NO_TRIAL = { words: '', steps: {} };
/** What a device on a link says that a source leaves open. */
export const NOT_ASKED = {
  links: [],
  port: 0,
  profiles: [],
  descriptions: null,
  refusal: (): Refusal => 'other',
  answerWithinMs: () => 0,
  unpolled: <Own>(own: Own): Own => own,
  timeBounds: () => null,
  polls: () => [],
  requests: null,
  takesTurns: false,
  details: null,
  trial: NO_TRIAL,
  orders: NO_ORDERS,
} as const;
/** Of an end that the address plan knows nothing of. */
export const NO_PLAN = { ours: null, theirs: null };
