import type { PointConfig } from '@halvix/core/config';
import { recentCommands, type Command } from '@halvix/db';
import { operationWords, setWords, writeWords } from '$lib/control.ts';
import { commandView } from '$lib/server/commands.ts';
import { database } from '$lib/server/database.ts';
import { model } from '$lib/server/model.ts';
import type { PageServerLoad } from './$types';

const SHOWN = 500;

function whatWords({ operation, counts, text }: Command, config: PointConfig | undefined): string {
  if (text !== null) return writeWords(text);
  return config && counts !== null ? setWords(counts, config) : operationWords(operation);
}

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
        what: whatWords(row, config),
      };
    }),
  };
};
