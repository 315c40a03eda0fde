import { agreementDocument, agreementOfRows, compareAgreement, madeBy, readAgreement } from '@halvix/core/mapping';
import type { Configuration, OutboundConfig } from '@halvix/core/config';
import { loadDraft } from '@halvix/db';
import { error, json } from '@sveltejs/kit';
import { z } from 'zod';
import { bodyOf } from '$lib/server/body.ts';
import { database } from '$lib/server/database.ts';
import { noteWho } from '$lib/server/security.ts';
import type { RequestHandler } from './$types';

async function drafted(code: string): Promise<{ outbound: OutboundConfig; configuration: Configuration }> {
  const { configuration } = await loadDraft(database);
  const outbound = configuration.outbounds.find((one) => one.code === code.toUpperCase());
  if (outbound === undefined) error(404, `outbound: there is no outbound ${code}`);
  return { outbound, configuration };
}

/** The agreement with a party as a file of its own (docs/formats.md). */
export const GET: RequestHandler = async (event) => {
  const { outbound, configuration } = await drafted(event.params.code);
  await noteWho(event, 'export', `the agreement with ${outbound.code}`);
  const headers = {
    'content-type': 'application/json',
    'content-disposition': `attachment; filename="halvix-agreement-${outbound.code}.json"`,
  };
  return new Response(agreementDocument(outbound, configuration), { headers });
};

const bodySchema = z.union([
  z.object({ text: z.string().max(20_000_000, 'A file has at most 20000000 characters') }),
  z.object({ rows: z.array(z.array(z.string().max(4000))).max(100_001, 'A sheet has at most 100001 rows') }),
]);

/** A file of theirs, or of ours, against the draft; nothing is changed. */
export const POST: RequestHandler = async ({ params, request, url }) => {
  const body = await bodyOf(request, bodySchema);
  const { outbound, configuration } = await drafted(params.code);
  const read = 'text' in body ? readAgreement(body.text) : agreementOfRows(body.rows);
  if (!read.ok) error(400, `file: ${read.problem}`);
  const said = z.enum(['us', 'them']).nullable().catch(null).parse(url.searchParams.get('by'));
  const found = madeBy(read.value, configuration.network, outbound.centre);
  const by = said ?? found ?? 'them';
  const { given, got } = read.value;
  const compared = compareAgreement(read.value, by === 'us', outbound, configuration);
  return json({ by, certain: found !== null, given: given.length, got: got.length, compared });
};
