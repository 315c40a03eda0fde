import {
  checkConfiguration,
  diffConfigurations,
  EMPTY_CONFIGURATION,
  readConfiguration,
  sessionEffects,
  type ConfigurationProblem,
} from '@halvix/core/config';
import { loadDraft, newestRevision, revisionById, revisionLines, unknownSecrets } from '@halvix/db';
import { error } from '@sveltejs/kit';
import { database } from '$lib/server/database.ts';
import type { PageServerLoad } from './$types';

const SHOWN = 400;
const LINES = 100;

/** The draft against what runs, or any two revisions against each other. */
export const load: PageServerLoad = async ({ url, depends }) => {
  depends('halvix:draft');
  const running = await newestRevision(database);
  const { configuration: draft, version } = await loadDraft(database);
  const asked = (name: string): number | null => {
    const text = url.searchParams.get(name);
    return text !== null && /^\d{1,9}$/.test(text) ? Number(text) : null;
  };
  const [from, to] = [asked('from'), asked('to')];
  const configurationOf = async (id: number): Promise<typeof draft> => {
    if (id === running?.id) return running.configuration;
    const revision = await revisionById(database, id);
    if (revision === null) error(404, `There is no revision ${id}`);
    return revision.configuration;
  };
  const before =
    from === null
      ? (running?.configuration ?? { ...EMPTY_CONFIGURATION, network: draft.network })
      : await configurationOf(from);
  const after = to === null ? draft : await configurationOf(to);
  const changes = diffConfigurations(before, after);
  const read = readConfiguration(draft);
  const problems: ConfigurationProblem[] = read.ok ? await unknownSecrets(database, read.value) : read.problem;
  const warnings = read.ok ? checkConfiguration(read.value).filter(({ severity }) => severity === 'warning') : [];
  return {
    version,
    running: running?.id ?? null,
    from,
    to,
    changes: changes.slice(0, SHOWN),
    changeCount: changes.length,
    effects: from === null && to === null ? sessionEffects(before, after) : [],
    problems: problems.slice(0, SHOWN),
    problemCount: problems.length,
    warnings: warnings.slice(0, SHOWN),
    warningCount: warnings.length,
    revisions: await revisionLines(database, LINES),
  };
};
