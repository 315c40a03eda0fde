import {
  bigint,
  bigserial,
  boolean,
  customType,
  doublePrecision,
  index,
  integer,
  jsonb,
  pgTable,
  primaryKey,
  serial,
  smallint,
  text,
  timestamp,
  uniqueIndex,
  uuid,
} from 'drizzle-orm/pg-core';

/** Instants are `timestamptz` in the database and milliseconds since 1970 UTC everywhere else. */
const instant = customType<{ data: number; driverData: string | Date }>({
  dataType: () => 'timestamp with time zone',
  toDriver: (ms) => new Date(ms).toISOString(),
  fromDriver: (value) => new Date(value).getTime(),
});

const bytea = customType<{ data: Uint8Array; driverData: Uint8Array }>({ dataType: () => 'bytea' });

/** People who may sign in. */
export const account = pgTable('account', {
  id: serial().primaryKey(),
  name: text().notNull().unique(),
  role: text({ enum: ['viewer', 'operator', 'engineer'] }).notNull(),
  passwordHash: text('password_hash').notNull(),
  created: instant('created').notNull(),
  /** May not sign in. */
  disabled: boolean().notNull().default(false),
  /** Somebody else set the password: its owner sets another one before anything else. */
  mustChange: boolean('must_change').notNull().default(false),
});

/** Browsers in which somebody once signed in, by a token of theirs: guesses from elsewhere do not keep them waiting. */
export const knownDevice = pgTable('known_device', {
  /** SHA-256 of the cookie's token, in hexadecimal. */
  tokenHash: text('token_hash').primaryKey(),
  accountId: integer('account_id')
    .notNull()
    .references(() => account.id, { onDelete: 'cascade' }),
  seen: instant('seen').notNull(),
});

export const webSession = pgTable('web_session', {
  /** SHA-256 of the cookie's token, in hexadecimal: the table alone lets nobody in. */
  tokenHash: text('token_hash').primaryKey(),
  accountId: integer('account_id')
    .notNull()
    .references(() => account.id, { onDelete: 'cascade' }),
  created: instant('created').notNull(),
  expires: instant('expires').notNull(),
  /** By which people tell one from another; lets nobody in. */
  label: text().notNull().default(''),
  /** When it was last used; null: not since there is this column. */
  seen: instant('seen'),
  address: text().notNull().default(''),
  agent: text().notNull().default(''),
});

/** Who did what that matters for security. Rows are only added: a trigger keeps the application from anything else. */
export const securityLog = pgTable(
  'security_log',
  {
    id: bigserial({ mode: 'number' }).primaryKey(),
    time: instant('time').notNull(),
    /** Name of the account; of a failed sign-in the name that was tried. */
    who: text().notNull(),
    what: text().notNull(),
    words: text().notNull(),
    address: text().notNull(),
  },
  (t) => [index('security_log_time').on(t.time)],
);

/** How long lines of the security log are kept, and how many; only the owner of the tables sets it. */
export const securityKeeping = pgTable('security_keeping', {
  one: boolean().primaryKey().default(true),
  days: integer().notNull(),
  lines: integer().notNull(),
});

/** Applied configurations, kept whole; the newest one runs. A trigger keeps anybody from changing them. */
export const revision = pgTable('revision', {
  id: serial().primaryKey(),
  document: jsonb().notNull(),
  author: text().notNull(),
  note: text().notNull(),
  applied: instant('applied').notNull(),
  /** Version of the draft that it was made from. */
  draftVersion: bigint('draft_version', { mode: 'number' }),
  /** Number of the draft's object that each device is, by its code: by it a device is known under another code. */
  deviceIds: jsonb('device_ids'),
  /** The same of outbounds. */
  outboundIds: jsonb('outbound_ids'),
  /** Whether no secret can stand in it as it is. */
  sealed: boolean().notNull().default(false),
});

/**
 * The draft: the configuration in pieces (core/config/objects.ts). What was deleted stays as a row without a document,
 * so that others hear of it.
 */
export const draftObject = pgTable(
  'draft_object',
  {
    id: serial().primaryKey(),
    kind: text().notNull(),
    /** Code of the device or outbound that it belongs to; empty for the others. */
    parent: text().notNull(),
    document: jsonb(),
    /** Of a point or mapping: by it lists are in order. */
    sort: text().notNull().default(''),
    /** Parent and document as the newest revision has them; null: it is not in it. */
    applied: jsonb(),
    /** Grows with every change of any object. */
    version: bigint({ mode: 'number' }).notNull(),
    author: text().notNull(),
    changed: instant('changed').notNull(),
  },
  (t) => [index('draft_object_kind').on(t.kind, t.parent), index('draft_object_version').on(t.version)],
);

/** What documents only name by a number (core/config/document/secrets.ts), sealed by a key that is not in the database. */
export const secret = pgTable('secret', {
  id: uuid().primaryKey(),
  /** As `db/secrets.ts` writes it. */
  sealed: bytea().notNull(),
  /** A draft or a revision has it, or had it; others were only tried, and go after a day. */
  kept: boolean().notNull(),
  made: instant('made').notNull(),
});

/** Device profiles that people saved (core/profile). */
export const profile = pgTable('profile', {
  code: text().primaryKey(),
  document: jsonb().notNull(),
  author: text().notNull(),
  changed: instant('changed').notNull(),
});

/** Questions to the field that a person waits for (core/path/probe.ts). */
export const probe = pgTable('probe', {
  id: uuid().primaryKey(),
  request: jsonb().notNull(),
  state: text().notNull(),
  result: jsonb().notNull(),
  requestedBy: text('requested_by').notNull(),
  requested: instant('requested').notNull(),
  engine: text(),
  updated: instant('updated').notNull(),
});

/** The number under which a point's history is kept, for as long as it is at the same address of the same device. */
export const pointIdentity = pgTable(
  'point_identity',
  {
    id: serial().primaryKey(),
    device: text().notNull(),
    /** As text (core/protocols). */
    address: text().notNull(),
    /** Of the point as it was applied last: what is kept how long depends on it. */
    kind: text().notNull(),
  },
  (t) => [uniqueIndex('point_identity_address').on(t.device, t.address)],
);

/** History: one row a reading. Partitioned by day in the migration, which drizzle cannot say. */
export const reading = pgTable(
  'reading',
  {
    pointId: integer('point_id').notNull(),
    time: timestamp('time', { withTimezone: true }).notNull(),
    received: timestamp('received', { withTimezone: true }).notNull(),
    raw: doublePrecision().notNull(),
    value: doublePrecision().notNull(),
    /** Of a text; null for numbers. */
    text: text(),
    /** Bits of `Quality`. */
    quality: integer().notNull(),
    /** Position in `TIME_SOURCES`. */
    timeSource: smallint('time_source').notNull(),
    /** Position in `CAUSES`. */
    cause: smallint().notNull(),
  },
  (t) => [index('reading_point_time').on(t.pointId, t.time)],
);

const statistic = {
  pointId: integer('point_id').notNull(),
  /** Begin of the minute or hour. */
  time: instant('time').notNull(),
  minimum: doublePrecision().notNull(),
  maximum: doublePrecision().notNull(),
  mean: doublePrecision().notNull(),
  first: doublePrecision().notNull(),
  last: doublePrecision().notNull(),
  count: integer().notNull(),
  /** All reasons that any reading in it had. */
  quality: integer().notNull(),
  lastQuality: integer('last_quality').notNull(),
  /** How long the value was not to be used, milliseconds. */
  badMs: integer('bad_ms').notNull(),
};
/** What readings come to in each minute, and in each hour, that had any. */
export const statisticMinute = pgTable('statistic_minute', statistic, (t) => [
  primaryKey({ columns: [t.pointId, t.time] }),
]);
export const statisticHour = pgTable('statistic_hour', statistic, (t) => [
  primaryKey({ columns: [t.pointId, t.time] }),
]);

/** Hours of history: when their statistics were made; null: they have to be, because readings came since. */
export const historyHour = pgTable('history_hour', {
  hour: instant('hour').primaryKey(),
  compacted: instant('compacted'),
});

/** How long history is kept, by kind of point; a kind without a row: as by default. */
export const retention = pgTable('retention', {
  kind: text().primaryKey(),
  readingsDays: integer('readings_days').notNull(),
  statisticsDays: integer('statistics_days').notNull(),
});

/** The latest reading of each point, written at most four times a second. */
export const latest = pgTable('latest', {
  pointId: integer('point_id').primaryKey(),
  raw: doublePrecision().notNull(),
  value: doublePrecision().notNull(),
  text: text(),
  quality: integer().notNull(),
  time: instant('time').notNull(),
  timeSource: smallint('time_source').notNull(),
  received: instant('received').notNull(),
  cause: smallint().notNull(),
  /** Position in `LIMIT_LEVELS`; null: within its limits. */
  limitLevel: smallint('limit_level'),
});

/**
 * What the session of each device has to remember with the readings stored last: opaque to the database. `link`: on which
 * the device was then, by which an engine finds those of its share.
 */
export const replayGuard = pgTable('replay_guard', {
  device: text().primaryKey(),
  link: text().notNull().default(''),
  keys: bytea('keys').notNull(),
});

/** The number under which everything of an outbound is kept, whatever its code is. */
export const outboundIdentity = pgTable('outbound_identity', {
  id: serial().primaryKey(),
  code: text().notNull().unique(),
});

/** What the session of each outbound has to remember, piece by piece in their order: opaque to the database. */
export const outboundKeep = pgTable(
  'outbound_keep',
  {
    id: bigserial({ mode: 'number' }).primaryKey(),
    outbound: integer().notNull(),
    octets: bytea('octets').notNull(),
  },
  (table) => [index('outbound_keep_outbound').on(table.outbound, table.id)],
);

/**
 * The ledger: events that outbounds owe, committed with the readings that they come from. A row has those of one queue
 * that one batch brought, in the form of `db/queries/owed.ts`.
 */
export const owed = pgTable(
  'owed',
  {
    id: bigserial({ mode: 'number' }).primaryKey(),
    outbound: integer().notNull(),
    queue: text().notNull(),
    /** Numbers of the first and of the last of them. */
    first: bigint({ mode: 'number' }).notNull(),
    last: bigint({ mode: 'number' }).notNull(),
    octets: bytea('octets').notNull(),
  },
  (table) => [index('owed_queue').on(table.outbound, table.queue, table.last)],
);

/** Packets that went, or are to go, to destinations to which we push: some of the newest of each. */
export const sentPacket = pgTable(
  'sent_packet',
  {
    outbound: integer().notNull(),
    /** Number of its first value. */
    packet: bigint({ mode: 'number' }).notNull(),
    /** When it went out first, and last. */
    first: instant('first').notNull(),
    last: instant('last').notNull(),
    tries: integer().notNull(),
    records: integer().notNull(),
    octets: integer().notNull(),
    /** `under way`: nothing is known of it yet. */
    state: text({ enum: ['under way', 'delivered', 'refused'] }).notNull(),
    /** Why it was not taken, at the last try. */
    words: text().notNull(),
    /** Where each message goes, and its octets as base64. */
    messages: jsonb().$type<{ to: string; octets: string }[]>().notNull(),
  },
  (table) => [primaryKey({ columns: [table.outbound, table.packet] })],
);

/** How far each queue is settled: everything up to the position, and some beyond it. */
export const owedPosition = pgTable(
  'owed_position',
  {
    outbound: integer().notNull(),
    queue: text().notNull(),
    position: bigint({ mode: 'number' }).notNull(),
    /** Numbers of those that are settled beyond the position, eight octets each. */
    beyond: bytea('beyond').notNull(),
  },
  (table) => [primaryKey({ columns: [table.outbound, table.queue] })],
);

/**
 * The last batch of readings that each writer stored: tells whether a commit went through when its answer was lost, and
 * keeps a writer out whose place was taken.
 */
export const ingestMark = pgTable(
  'ingest_mark',
  {
    share: text().notNull().default('*'),
    writer: text().notNull(),
    batch: text().notNull(),
  },
  (t) => [primaryKey({ columns: [t.share, t.writer] })],
);

/**
 * Which engine runs which share of the links: a row for each share, of which there is one now, `*`, that is all of them. It
 * goes to another engine when it was not renewed in time.
 */
export const lease = pgTable('lease', {
  share: text().primaryKey(),
  /** Different for each run of each engine. */
  run: text().notNull(),
  name: text().notNull(),
  since: instant('since').notNull(),
  until: instant('until').notNull(),
});

/** Engines that stand by. */
export const standby = pgTable('standby', {
  run: text().primaryKey(),
  name: text().notNull(),
  seen: instant('seen').notNull(),
});

/** State of links, devices, outbounds and engines, as JSON of core/path; each as the engine says that holds it. */
export const hopState = pgTable(
  'hop_state',
  {
    engine: text().notNull().default(''),
    kind: text().notNull(),
    code: text().notNull(),
    state: jsonb().notNull(),
    updated: instant('updated').notNull(),
  },
  (t) => [primaryKey({ columns: [t.engine, t.kind, t.code] })],
);

/** A control is a row; see core/path/command.ts for its life. */
export const command = pgTable(
  'command',
  {
    id: uuid().primaryKey(),
    /** Ascending in the order in which they were made, which is the one in which they are carried out. */
    number: bigint({ mode: 'number' }).generatedAlwaysAsIdentity().notNull(),
    pointId: integer('point_id').notNull(),
    device: text().notNull(),
    /** Of the device's point, as text. */
    address: text().notNull(),
    operation: text().notNull(),
    /** What an analog output is set to, in counts of the device. */
    counts: doublePrecision(),
    /** What a text is to say. */
    text: text(),
    mode: text().notNull(),
    onMs: bigint('on_ms', { mode: 'number' }).notNull(),
    offMs: bigint('off_ms', { mode: 'number' }).notNull(),
    count: smallint().notNull(),
    requestedBy: text('requested_by').notNull(),
    /** The outbound whose centre asked; null for a person. */
    outbound: text(),
    state: text().notNull(),
    engine: text(),
    status: integer(),
    words: text(),
    requested: instant('requested').notNull(),
    expires: instant('expires').notNull(),
    claimed: instant('claimed'),
    sent: instant('sent'),
    selected: instant('selected'),
    operated: instant('operated'),
    confirmed: instant('confirmed'),
    ended: instant('ended'),
  },
  (t) => [index('command_state').on(t.state), index('command_requested').on(t.requested)],
);

/** What was asked about a device's files: its directory, or one of them. A row, like a control. */
export const fileTransfer = pgTable(
  'file_transfer',
  {
    id: uuid().primaryKey(),
    device: text().notNull(),
    what: text({ enum: ['directory', 'readFile', 'deleteFile'] }).notNull(),
    name: text().notNull(),
    state: text({ enum: ['requested', 'running', 'done', 'failed'] }).notNull(),
    words: text(),
    /** Come so far. */
    octets: integer().notNull(),
    /** Of a directory, as JSON of core/path. */
    entries: jsonb(),
    content: bytea('content'),
    requestedBy: text('requested_by').notNull(),
    requested: instant('requested').notNull(),
    engine: text(),
    ended: instant('ended'),
  },
  (t) => [index('file_transfer_device').on(t.device, t.requested)],
);

/** The trail of points that somebody looks at, as JSON of core/path. */
export const trail = pgTable('trail', {
  pointId: integer('point_id').primaryKey(),
  document: jsonb().notNull(),
  updated: instant('updated').notNull(),
});

/** What happened, for people. */
export const journal = pgTable(
  'journal',
  {
    id: bigserial({ mode: 'number' }).primaryKey(),
    time: instant('time').notNull(),
    /** Device or outbound code. */
    subject: text().notNull(),
    tone: text({ enum: ['plain', 'lost', 'control', 'warning'] }).notNull(),
    words: text().notNull(),
  },
  (t) => [index('journal_time').on(t.time)],
);
