import { recentCommands } from '@halvix/db';
import { operationWords, setWords } from '$lib/control.ts';
import { commandView } from '$lib/server/commands.ts';
import { database } from '$lib/server/database.ts';
import { model } from '$lib/server/model.ts';
import type { PageServerLoad } from './$types';

const SHOWN = 500;

export const load: PageServerLoad = async ({ depends }) => {
  depends('halvix:commands');
  const { points } = await model();
  const commands = await recentCommands(database, SHOWN);
  return {
    commands: commands.map((row) => {
      const config = points.get(row.pointId)?.config;
      return {
        ...commandView(row),
        name: config?.name ?? row.address,
        what: config && row.counts !== null ? setWords(row.counts, config) : operationWords(row.operation),
      };
    }),
  };
};
