import {
  diffConfigurations,
  EMPTY_CONFIGURATION,
  readImported,
  sessionEffects,
  type ConfigurationChange,
  type Configuration,
  type DeviceObject,
  type DraftPoint,
} from '@halvix/core/config';
import { csvOf, decodeText, previewTable, readTable, tableOfPoints } from '@halvix/core/pointlist';
import { databaseSetting, readSettings, secretKeysSetting } from '@halvix/core/settings';
import { nameProblem, normalName, passwordProblem } from '@halvix/core/accounts';
import {
  accountByName,
  accounts,
  addAccount,
  applyConfiguration,
  changeAccount,
  changeDraft,
  doorsOpenedBy,
  endSessions,
  keepSecurity,
  mayMigrate,
  noteSecurity,
  securityKept,
  type AccountChange,
  type Role,
  draftObjects,
  ensureDraft,
  loadDraft,
  migrateDatabase,
  newestRevision,
  closeDatabase,
  openDatabase,
  orderProbe,
  probeById,
  newSecretKey,
  revisionById,
  sealAnew,
  SecretKeys,
  takeIntoDraft,
  useSecretKeys,
  type Database,
  type DraftChange,
} from '@halvix/db';
import { hash } from '@node-rs/argon2';
import { randomUUID } from 'node:crypto';
import { existsSync, readFileSync, renameSync, statSync, writeFileSync } from 'node:fs';
import { userInfo } from 'node:os';
import { parseArgs } from 'node:util';
import { z } from 'zod';

/*
 * The configuration from the command line, for those who keep it under version control. Exit codes:
 *
 *   0  done; for a comparison: no difference
 *   1  refused: what was given has problems, or there is no such thing
 *   2  the command line or a setting is wrong
 *   3  there are differences
 *   4  the device does not answer
 */
const USAGE = `usage: npm run halvix -- COMMAND [--json]

  config export [FILE] [--revision N | --draft]   writes the configuration that runs, a revision, or the draft
  config check FILE                               tells what is wrong with a document
  config diff FILE [--draft]                      what a document would change in what runs, or in the draft
  config import FILE                              makes the draft equal to a document
  config apply FILE [--note TEXT]                 makes a document the newest revision, and the draft the same
  points export [FILE] [--device CODE]            point lists of the draft as CSV
  points import FILE [--device CODE] [--dry-run]  takes a CSV over into the draft, all of it or nothing
  try DEVICE                                      has the engine try a device of the draft
  account list                                    who may sign in
  account add NAME --role ROLE                    viewer, operator or engineer; the password is the first line of
                                                  standard input, here and below
  account password NAME                           gives a new password, and ends the sessions
  account role NAME --role ROLE | account rename NAME NEW | account disable NAME | account enable NAME
  account end NAME                                ends the sessions
  security kept [--days N] [--lines N]            how long the security log is kept, or sets it: for the owner of the
                                                  tables (HALVIX_OWNER_URL) alone
  secrets key FILE                                makes a key in a file (or adds one, in front of those in it): with it
                                                  passwords in the configuration are sealed (HALVIX_SECRETS_KEY_FILE)
  secrets seal                                    seals all passwords by the first key of the file
`;

const EXIT = { done: 0, refused: 1, usage: 2, differs: 3, silent: 4 } as const;
class Exit extends Error {
  constructor(
    readonly code: number,
    words: string,
    readonly more: object = {},
  ) {
    super(words);
  }
}

let parsed;
try {
  parsed = parseArgs({
    allowPositionals: true,
    options: {
      json: { type: 'boolean', default: false },
      draft: { type: 'boolean', default: false },
      'dry-run': { type: 'boolean', default: false },
      revision: { type: 'string' },
      device: { type: 'string' },
      note: { type: 'string', default: '' },
      role: { type: 'string' },
      days: { type: 'string' },
      lines: { type: 'string' },
      help: { type: 'boolean', default: false },
    },
  });
} catch (error) {
  process.stderr.write(`${error instanceof Error ? error.message : String(error)}\n\n${USAGE}`);
  process.exit(EXIT.usage);
}
const { values: options, positionals } = parsed;
const author = userInfo().username;

/** What a command has to say: as lines for people, or as one JSON document. */
function say(result: object, lines: readonly string[]): void {
  process.stdout.write(options.json ? `${JSON.stringify(result)}\n` : lines.map((line) => `${line}\n`).join(''));
}

function readDocument(file: string): Configuration {
  let json: unknown;
  try {
    json = JSON.parse(readFileSync(file, 'utf8'));
  } catch (error) {
    throw new Exit(EXIT.refused, `${file}: ${error instanceof Error ? error.message : String(error)}`);
  }
  const read = readImported(json);
  if (!read.ok)
    throw new Exit(EXIT.refused, read.problem.map(({ where, words }) => `${where}: ${words}`).join('\n'), {
      problems: read.problem,
    });
  return read.value;
}

const MARK = { added: '+', removed: '-', changed: '~' } as const;
const changeLines = (changes: readonly ConfigurationChange[]): string[] =>
  changes.map(({ what, title, words }) => `${MARK[what]} ${title}${words.length > 0 ? `: ${words.join('; ')}` : ''}`);

const fileArgument = (at: number): string => {
  const file = positionals[at];
  if (file === undefined) throw new Exit(EXIT.usage, `FILE is missing\n\n${USAGE}`);
  return file;
};

const running = async (database: Database): Promise<Configuration> =>
  (await newestRevision(database))?.configuration ?? EMPTY_CONFIGURATION;

async function exportConfiguration(database: Database): Promise<void> {
  let configuration: Configuration;
  if (options.draft) ({ configuration } = await loadDraft(database));
  else if (options.revision === undefined) configuration = await running(database);
  else {
    const revision = await revisionById(database, Number(options.revision) || 0);
    if (revision === null) throw new Exit(EXIT.refused, `there is no revision ${options.revision}`);
    ({ configuration } = revision);
  }
  const text = `${JSON.stringify(configuration, null, 2)}\n`;
  const file = positionals[2];
  if (file === undefined) process.stdout.write(text);
  else {
    writeFileSync(file, text);
    say({ file, devices: configuration.devices.length }, [`${file} written, ${configuration.devices.length} devices`]);
  }
}

async function compare(database: Database): Promise<void> {
  const after = readDocument(fileArgument(2));
  const before = options.draft ? (await loadDraft(database)).configuration : await running(database);
  const changes = diffConfigurations(before, after);
  const effects = options.draft ? [] : sessionEffects(before, after).filter(({ effect }) => effect !== 'goesOn');
  say({ changes, effects }, [
    ...changeLines(changes),
    ...effects.map(({ kind, code, effect }) => `  session of ${kind} ${code}: ${effect}`),
    ...(changes.length === 0 ? ['no difference'] : []),
  ]);
  if (changes.length > 0) process.exitCode = EXIT.differs;
}

async function importConfiguration(database: Database): Promise<void> {
  const file = fileArgument(2);
  const configuration = readDocument(file);
  const before = (await loadDraft(database)).configuration;
  const changes = diffConfigurations(before, configuration);
  await takeIntoDraft(database, configuration, author, Date.now());
  await note(database, 'configuration', `took ${file} into the draft, ${changes.length} changes`);
  say({ changes }, [...changeLines(changes), `${changes.length} changes in the draft; nothing is applied yet`]);
}

async function apply(database: Database): Promise<void> {
  const file = fileArgument(2);
  const revision = await applyConfiguration(database, readDocument(file), author, options.note || file);
  await note(database, 'configuration', `applied revision ${revision} from ${file}`);
  for (const door of await doorsOpenedBy(database, revision))
    await note(database, 'access', `revision ${revision} opened ${door}`);
  say({ revision }, [`revision ${revision} applied`]);
}

async function draftPoints(
  database: Database,
): Promise<{ device: string; point: DraftPoint; id: number; version: number }[]> {
  const rows = await draftObjects(database, {
    kinds: ['point'],
    ...(options.device ? { parent: options.device } : {}),
  });
  return rows.map(({ parent, document, id, version }) => ({
    device: parent,
    point: document as DraftPoint,
    id,
    version,
  }));
}

/** The devices of the draft with their protocols. */
async function draftDevices(database: Database): Promise<Map<string, DeviceObject['protocol']>> {
  const objects = await draftObjects(database, { kinds: ['device'] });
  const devices = objects.map(({ document }) => document as DeviceObject);
  const protocols = new Map(devices.map(({ code, protocol }) => [code, protocol]));
  if (options.device !== undefined && !protocols.has(options.device))
    throw new Exit(EXIT.refused, `--device: there is no device ${options.device} in the draft`);
  return protocols;
}

async function exportPoints(database: Database): Promise<void> {
  await draftDevices(database);
  const points = await draftPoints(database);
  const text = csvOf(tableOfPoints(points));
  const file = positionals[2];
  if (file === undefined) process.stdout.write(`${text}\r\n`);
  else {
    writeFileSync(file, `\ufeff${text}\r\n`);
    say({ file, points: points.length }, [`${file} written, ${points.length} points`]);
  }
}

async function importPoints(database: Database): Promise<void> {
  const file = fileArgument(2);
  const devices = await draftDevices(database);
  let octets: Uint8Array;
  try {
    octets = readFileSync(file);
  } catch (error) {
    throw new Exit(EXIT.refused, `${file}: ${error instanceof Error ? error.message : String(error)}`);
  }
  const text = decodeText(octets);
  const table = text.ok ? readTable(text.value) : text;
  if (!table.ok) throw new Exit(EXIT.refused, `${file}: ${table.problem}`);
  const known = await draftPoints(database);
  const preview = previewTable(table.value, { device: options.device ?? null, kind: 'binary', devices, known });
  if (preview.counts.wrong > 0)
    throw new Exit(
      EXIT.refused,
      [
        ...preview.problems.map(
          ({ row, column, value, words }) => `row ${row}, ${column}${value ? ` "${value}"` : ''}: ${words}`,
        ),
        'nothing was changed',
      ].join('\n'),
      { problems: preview.problems },
    );
  const changes = preview.rows.flatMap((row): DraftChange[] => {
    const base = { kind: 'point' as const, parent: row.device, document: row.point };
    if (row.state === 'new') return [{ ...base, id: null, expected: null }];
    if (row.state !== 'changed' || row.known === null) return [];
    const { id, version } = known[row.known];
    return [{ ...base, id, expected: version }];
  });
  if (changes.length > 0 && !options['dry-run']) {
    const outcome = await changeDraft(database, changes, author, Date.now());
    if (!outcome.ok)
      throw new Exit(EXIT.refused, 'somebody changed the draft meanwhile: nothing was changed; try again');
  }
  const { counts } = preview;
  say({ counts, dryRun: options['dry-run'] }, [
    `${counts.new} new, ${counts.changed} changed, ${counts.same} as they were${options['dry-run'] ? '; nothing was changed' : ''}`,
  ]);
}

const TRY_LIMIT_MS = 60_000;

async function tryDevice(database: Database): Promise<void> {
  const code = positionals[1];
  if (code === undefined) throw new Exit(EXIT.usage, `DEVICE is missing\n\n${USAGE}`);
  const { configuration } = await loadDraft(database);
  const device = configuration.devices.find((one) => one.code === code);
  const link = configuration.links.find((one) => one.code === device?.link);
  if (!device || !link) throw new Exit(EXIT.refused, `there is no device ${code} with a link in the draft`);
  const id = randomUUID();
  await orderProbe(database, id, { type: 'try', link, device }, author, Date.now());
  const deadline = Date.now() + TRY_LIMIT_MS;
  for (;;) {
    const probe = await probeById(database, id);
    if (probe && probe.state !== 'requested' && probe.state !== 'running') {
      say(
        { state: probe.state, steps: probe.result.steps },
        probe.result.steps.map(
          ({ step, state, words, meaning }) => `${step} ${state}: ${words}${meaning ? `\n    ${meaning}` : ''}`,
        ),
      );
      if (probe.state !== 'good') process.exitCode = EXIT.silent;
      return;
    }
    if (Date.now() > deadline) throw new Exit(EXIT.silent, 'no engine has taken it: does one run?');
    await new Promise((resolve) => setTimeout(resolve, 100));
  }
}

const ROLES = ['viewer', 'operator', 'engineer'] as const;

function roleGiven(): Role {
  const role = ROLES.find((one) => one === options.role);
  if (role === undefined)
    throw new Exit(EXIT.usage, `--role: "${options.role ?? ''}" is not one of ${ROLES.join(', ')}`);
  return role;
}

/** The first line of standard input: a password stands in no list of processes and in no history. */
function passwordGiven(name: string): Promise<string> {
  const [password] = readFileSync(0, 'utf8').split(/\r?\n/);
  const problem = passwordProblem(password, name);
  if (problem !== null) throw new Exit(EXIT.refused, `password: ${problem}`);
  return hash(password);
}

function nameGiven(place: number): string {
  const given = positionals[place];
  if (given === undefined) throw new Exit(EXIT.usage, `a NAME is missing\n\n${USAGE}`);
  return normalName(given);
}

/** A name that an account is to have. */
function newNameGiven(place: number): string {
  const name = nameGiven(place);
  const problem = nameProblem(name);
  if (problem !== null) throw new Exit(EXIT.refused, `name: ${problem}`);
  return name;
}

/** A line of the security log. */
const note = (database: Database, what: string, words: string): Promise<void> =>
  noteSecurity(database, {
    ...{ time: Date.now(), who: `${author} at the command line`, what, words: words.slice(0, 500), address: '' },
  });

async function noted(database: Database, words: string): Promise<void> {
  await note(database, 'account', words);
  say({ done: words }, [words]);
}

async function listAccounts(database: Database): Promise<void> {
  const all = await accounts(database, Date.now());
  say({ accounts: all }, [
    ...all.map(
      ({ name, role, disabled, sessions }) =>
        `${name}  ${role}${disabled ? ', disabled' : ''}${sessions > 0 ? `, ${sessions} open` : ''}`,
    ),
  ]);
}

async function newAccount(database: Database): Promise<void> {
  const name = newNameGiven(2);
  const role = roleGiven();
  if (!(await addAccount(database, name, role, await passwordGiven(name), Date.now(), true)))
    throw new Exit(EXIT.refused, `another account is called ${name}`);
  await noted(database, `added ${name} as ${role}`);
}

const ACCOUNT_PROBLEMS = {
  missing: 'there is no such account',
  lastEngineer: 'this is the last engineer: somebody has to be left who may do everything',
  nameTaken: 'another account has that name',
} as const;

/** Changes the account that is named; its sessions end unless it is only renamed. */
const changing =
  (change: (name: string) => Promise<AccountChange> | AccountChange, words: (name: string) => string) =>
  async (database: Database): Promise<void> => {
    const name = nameGiven(2);
    const account = await accountByName(database, name);
    if (account === null) throw new Exit(EXIT.refused, `there is no account ${name}`);
    const wanted = await change(name);
    const outcome = await changeAccount(database, account.id, wanted);
    if (!outcome.ok) throw new Exit(EXIT.refused, ACCOUNT_PROBLEMS[outcome.problem]);
    if (wanted.name === undefined) await endSessions(database, account.id, { except: null });
    await noted(database, words(name));
  };

/** Bounds of what may be kept: a day to ten years; a thousand lines to a hundred million. */
const KEPT = { days: [1, 3653], lines: [1000, 100_000_000] } as const;

async function securityLogKept(database: Database): Promise<void> {
  const given = (name: 'days' | 'lines'): { days?: number; lines?: number } => {
    const text = options[name];
    if (text === undefined) return {};
    const [least, most] = KEPT[name];
    const number = Number(text);
    if (!Number.isInteger(number) || number < least || number > most)
      throw new Exit(EXIT.usage, `--${name}: "${text}" is no whole number from ${least} to ${most}`);
    return { [name]: number };
  };
  const wanted = { ...given('days'), ...given('lines') };
  if (Object.keys(wanted).length > 0) {
    try {
      await keepSecurity(database, wanted);
    } catch (error) {
      throw new Exit(EXIT.refused, error instanceof Error ? String(error.cause ?? error.message) : String(error));
    }
  }
  const { days, lines } = await securityKept(database);
  const words = `the security log is kept for ${days} days, and at most ${lines} lines`;
  if (Object.keys(wanted).length > 0) {
    const who = `${author} at the command line`;
    await noteSecurity(database, { time: Date.now(), who, what: 'settings', words, address: '' });
  }
  say({ days, lines }, [words]);
}

function makeKey(file: string): void {
  const before = existsSync(file) ? readFileSync(file, 'utf8') : '';
  if (before !== '') SecretKeys.read(before);
  // All of it or nothing: without its key what is sealed is lost.
  const mode = before === '' ? 0o600 : statSync(file).mode & 0o777;
  writeFileSync(`${file}.new`, `${newSecretKey()}\n${before}`, { mode, flag: 'wx' });
  renameSync(`${file}.new`, file);
  const words = before === '' ? `${file} has a key` : `${file} has another key, in front of those it had`;
  say({ done: words }, [words, 'Keep a copy apart from the database: without it nobody can open what it seals.']);
}

async function sealSecrets(database: Database): Promise<void> {
  const { sealed, closed } = await sealAnew(database);
  if (closed > 0)
    throw new Exit(EXIT.refused, `${closed} are sealed by a key that is not in the file; ${sealed} were sealed anew`, {
      sealed,
      closed,
    });
  await note(database, 'settings', `sealed ${sealed} secrets by another key`);
  say({ sealed }, [`sealed anew: ${sealed}`]);
}

const COMMANDS: Record<string, (database: Database) => Promise<void>> = {
  'config export': exportConfiguration,
  'config diff': compare,
  'config import': importConfiguration,
  'config apply': apply,
  'points export': exportPoints,
  'points import': importPoints,
  'security kept': securityLogKept,
  'secrets seal': sealSecrets,
  'account list': listAccounts,
  'account add': newAccount,
  'account password': changing(
    async (name) => ({ passwordHash: await passwordGiven(name), mustChange: true }),
    (name) => `reset the password of ${name}`,
  ),
  'account role': changing(
    () => ({ role: roleGiven() }),
    (name) => `made ${name} ${roleGiven()}`,
  ),
  'account rename': changing(
    () => ({ name: newNameGiven(3) }),
    (name) => `renamed ${name} to ${nameGiven(3)}`,
  ),
  'account disable': changing(
    () => ({ disabled: true }),
    (name) => `disabled ${name}`,
  ),
  'account enable': changing(
    () => ({ disabled: false }),
    (name) => `enabled ${name}`,
  ),
  'account end': changing(
    () => ({}),
    (name) => `ended the sessions of ${name}`,
  ),
};

async function main(): Promise<void> {
  if (options.help) {
    process.stdout.write(USAGE);
    return;
  }
  const name = positionals.slice(0, 2).join(' ');
  // Needs no database.
  if (name === 'config check') {
    const configuration = readDocument(fileArgument(2));
    say({ problems: [], devices: configuration.devices.length }, ['nothing is wrong with it']);
    return;
  }
  if (name === 'secrets key') return makeKey(fileArgument(2));
  const command = positionals[0] === 'try' ? tryDevice : COMMANDS[name];
  if (command === undefined) throw new Exit(EXIT.usage, USAGE);
  const settings = readSettings(
    z.object({
      HALVIX_DATABASE_URL: databaseSetting,
      HALVIX_OWNER_URL: databaseSetting.optional(),
      HALVIX_MIGRATIONS: z.string().min(1).default('db/migrations'),
      HALVIX_SECRETS_KEY_FILE: secretKeysSetting,
    }),
    process.env,
  );
  if (!settings.ok) throw new Exit(EXIT.usage, settings.problem.map((one) => `setting ${one}`).join('\n'));
  const { HALVIX_DATABASE_URL, HALVIX_OWNER_URL, HALVIX_MIGRATIONS, HALVIX_SECRETS_KEY_FILE } = settings.value;
  const wrong = useSecretKeys(HALVIX_SECRETS_KEY_FILE);
  if (wrong !== null) throw new Exit(EXIT.usage, `setting HALVIX_SECRETS_KEY_FILE (set): ${wrong}`);
  const isOwners = name === 'security kept' && HALVIX_OWNER_URL !== undefined;
  const url = isOwners ? HALVIX_OWNER_URL : HALVIX_DATABASE_URL;
  const database = openDatabase(url, { connections: 2, name: 'halvix' });
  try {
    // Whoever only uses the tables finds them as the engine, or their owner, made them.
    if (await mayMigrate(database)) await migrateDatabase(database, HALVIX_MIGRATIONS);
    await ensureDraft(database, Date.now());
    await command(database);
  } finally {
    await closeDatabase(database);
  }
}

try {
  await main();
} catch (error) {
  const exit =
    error instanceof Exit ? error : new Exit(EXIT.refused, error instanceof Error ? error.message : String(error));
  if (options.json) process.stdout.write(`${JSON.stringify({ error: exit.message, ...exit.more })}\n`);
  else process.stderr.write(`${exit.message}\n`);
  process.exitCode = exit.code;
}
