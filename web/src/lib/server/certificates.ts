import { X509Certificate } from 'node:crypto';
import { readFileSync } from 'node:fs';

const LOOK_MS = 600_000;
let looked: { at: number; ends: number | null } | null = null;

/** When the certificate of this web is over, ms since 1970; null: it speaks no https itself. */
export function httpsEnds(now = Date.now()): number | null {
  const file = process.env.HALVIX_HTTPS_CERTIFICATE ?? '';
  if (file === '') return null;
  if (looked === null || now - looked.at > LOOK_MS) looked = { at: now, ends: read(file) };
  return looked.ends;
}

function read(file: string): number | null {
  try {
    return Date.parse(new X509Certificate(readFileSync(file)).validTo);
  } catch {
    return null;
  }
}
