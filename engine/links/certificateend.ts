import type { LinkConfig } from '@halvix/core/config';
import { certificatesEnd, clock } from '@halvix/wire';

const CERTIFICATE_LOOK_MS = 600_000;

/** When the certificates of a link are over, looked at now and then: files are renewed while it runs. */
export class CertificateEnd {
  private looked: { at: number; ends: number | null } | null = null;

  constructor(private readonly link: Pick<LinkConfig, 'tls'>) {}

  get at(): number | null {
    const { tls } = this.link;
    if (!tls.use) return null;
    if (this.looked === null || clock.now() - this.looked.at > CERTIFICATE_LOOK_MS)
      this.looked = { at: clock.now(), ends: certificatesEnd(tls) };
    return this.looked.ends;
  }
}
