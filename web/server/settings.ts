import { hostSetting, portSetting } from '@halvix/core/settings';
import { z } from 'zod';

/** Where and how the web is served; what it does there has settings of its own. */
export const serverSettings = z
  .object({
    HALVIX_WEB_HOST: hostSetting,
    HALVIX_WEB_PORT: portSetting(4600),
    HALVIX_WEB_ORIGIN: z.string().default('http://127.0.0.1:4600'),
    /** PEM files for https: the certificate with its chain, and its key. Both or none. */
    HALVIX_HTTPS_CERTIFICATE: z.string().default(''),
    HALVIX_HTTPS_KEY: z.string().default(''),
    /** How long open requests may go on after the order to end, seconds. */
    HALVIX_WEB_SHUTDOWN_TIMEOUT: z.coerce.number().min(0).max(600).default(5),
    /** How long a request may take to arrive, seconds: lists of 100 000 points come over slow lines, too. */
    HALVIX_HTTP_REQUEST_SECONDS: z.coerce
      .number({ error: 'must be a number of seconds' })
      .min(1, 'must be at least 1 second')
      .max(3600, 'must be at most 3600 seconds')
      .default(120),
  })
  .superRefine((settings, context) => {
    const { HALVIX_HTTPS_CERTIFICATE: certificate, HALVIX_HTTPS_KEY: key, HALVIX_WEB_ORIGIN: origin } = settings;
    const problem = (path: string, message: string): void =>
      context.addIssue({ code: 'custom', path: [path], message });
    if (certificate !== '' && key === '') problem('HALVIX_HTTPS_KEY', 'must be set beside HALVIX_HTTPS_CERTIFICATE');
    if (key !== '' && certificate === '') problem('HALVIX_HTTPS_CERTIFICATE', 'must be set beside HALVIX_HTTPS_KEY');
    if (certificate !== '' && !origin.startsWith('https://'))
      problem('HALVIX_WEB_ORIGIN', 'must begin with https:// when there is a certificate');
  });
export type ServerSettings = z.infer<typeof serverSettings>;

/** Certificates and keys are far smaller. */
export const MAX_FILE_OCTETS = 1024 * 1024;
