import type { Role } from '@halvix/db';

declare global {
  namespace App {
    interface Locals {
      /** Whoever is signed in. */
      person: { id: number; name: string; role: Role; mustChange: boolean } | null;
    }
    interface Error {
      message: string;
    }
  }
}

export {};
