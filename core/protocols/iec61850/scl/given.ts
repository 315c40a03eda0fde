import type { Result } from '../../../session/index.ts';
import type { ModelPlan } from '../server/modelserver.ts';
import type { Ied, Scl } from './document.ts';
import { SclModels } from './model.ts';
import { planOf, type PlanOptions } from './plan.ts';
import { SclReader } from './read.ts';

/** A device of a file that a server of ours is to be like. */
export interface Given {
  scl: Scl;
  ied: Ied;
  plan: ModelPlan;
}

/** The device of that name, or the only one that has a server. The problem is for people. */
export function givenModel(text: string, name: string, options: PlanOptions): Result<Given, string> {
  const reader = new SclReader();
  reader.push(text);
  const scl = reader.end();
  const [first] = reader.problems.filter(({ severity }) => severity === 'problem');
  if (scl === null || first !== undefined)
    return { ok: false, problem: first === undefined ? 'it cannot be read' : `line ${first.line}: ${first.words}` };
  const serving = scl.ieds.filter(({ accessPoints }) => accessPoints.some(({ devices }) => devices.length > 0));
  const found = name === '' ? serving : serving.filter((one) => one.name === name);
  if (found.length !== 1) {
    const names = serving.map((one) => one.name);
    const there = names.length === 0 ? 'none' : names.slice(0, 10).join(', ') + (names.length > 10 ? ' …' : '');
    return {
      ok: false,
      problem: name === '' ? `say which of its devices with a server: ${there}` : `it has no server ${name}: ${there}`,
    };
  }
  const [ied] = found;
  const models = new SclModels(scl);
  models.modelOf(ied);
  const [wrong] = models.problems.filter(({ severity }) => severity === 'problem');
  if (wrong !== undefined) return { ok: false, problem: `line ${wrong.line}: ${wrong.words}` };
  return { ok: true, value: { scl, ied, plan: planOf(scl, ied, options) } };
}
