import { decodeFragment, FunctionCode, iinWords } from './wire/application.ts';
import { parseHeaders } from './wire/header.ts';

const FUNCTION_WORDS: Record<number, string> = {
  [FunctionCode.confirm]: 'confirm',
  [FunctionCode.read]: 'read',
  [FunctionCode.write]: 'write',
  [FunctionCode.select]: 'select',
  [FunctionCode.operate]: 'operate',
  [FunctionCode.directOperate]: 'direct operate',
  [FunctionCode.directOperateNoAck]: 'direct operate, no acknowledgement',
  [FunctionCode.enableUnsolicited]: 'enable unsolicited',
  [FunctionCode.disableUnsolicited]: 'disable unsolicited',
  [FunctionCode.delayMeasurement]: 'delay measurement',
  [FunctionCode.response]: 'response',
  [FunctionCode.unsolicitedResponse]: 'unsolicited response',
};

const WITHOUT_OBJECTS: ReadonlySet<number> = new Set([
  FunctionCode.read,
  FunctionCode.enableUnsolicited,
  FunctionCode.disableUnsolicited,
]);

/** A fragment in words: `response 3, confirm asked: g32v3 × 2, g2v2 × 1; class 1 events wait`. Never throws. */
export function describeFragment(octets: Uint8Array): string {
  const decoded = decodeFragment(octets);
  if (!decoded.ok) return decoded.problem;
  const { control, functionCode, iin, objectsAt } = decoded.value;
  const { headers, problem } = parseHeaders(octets, objectsAt, !WITHOUT_OBJECTS.has(functionCode));
  const name = FUNCTION_WORDS[functionCode] ?? `function code ${functionCode}`;
  const objects = headers.map(({ group, variation, items }) =>
    items.length > 0 ? `g${group}v${variation} × ${items.length}` : `g${group}v${variation}`,
  );
  const parts = [`${name} ${control.sequence}${control.confirm ? ', confirm asked' : ''}`];
  if (objects.length > 0) parts[0] += `: ${objects.join(', ')}`;
  if (iin) parts.push(...iinWords(iin));
  if (problem !== null) parts.push(`not understood: ${problem.words}`);
  return parts.join('; ');
}
