const ERROR_WORDS: Record<string, string> = {
  ECONNREFUSED: 'refused, nothing listens there',
  EHOSTUNREACH: 'no route to that host',
  ENETUNREACH: 'no route to that network',
  ETIMEDOUT: 'no answer from that host',
  ENOTFOUND: 'that host name is not known',
  EAI_AGAIN: 'the host name could not be looked up',
  ECONNRESET: 'the other end reset the connection',
  EPIPE: 'the other end closed the connection',
  EADDRINUSE: 'another program uses that port',
  EADDRNOTAVAIL: 'that address is not one of this machine',
  EACCES: 'this port needs more rights',
  ENOENT: 'there is no such file or port',
  ERR_TLS_CERT_ALTNAME_INVALID: 'its certificate is for another name',
  DEPTH_ZERO_SELF_SIGNED_CERT: 'its certificate is not from our authority',
  SELF_SIGNED_CERT_IN_CHAIN: 'its certificate is not from our authority',
  UNABLE_TO_VERIFY_LEAF_SIGNATURE: 'its certificate is not from our authority',
  CERT_HAS_EXPIRED: 'its certificate has expired',
  ERR_SSL_TLSV13_ALERT_CERTIFICATE_REQUIRED: 'it wants a certificate of ours',
  ERR_SSL_TLSV1_ALERT_UNKNOWN_CA: 'it does not trust the authority of our certificate',
  ERR_SSL_WRONG_VERSION_NUMBER: 'it does not speak TLS',
};

/** What an error of the system means to somebody who looks after the line. */
export const inWords = (error: Error & { code?: string }): string => ERROR_WORDS[error.code ?? ''] ?? error.message;
