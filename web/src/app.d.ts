import type { Role } from '@halvix/db';

declare global {
  namespace App {
    interface Locals {
      /** Whoever is signed in. */
      person: { id: number; name: string; role: Role } | null;
    }
    interface Error {
      message: string;
    }
  }
}

export {};
