import { SecretProblem } from '@halvix/db';
import { error } from '@sveltejs/kit';

/** Does something that may have to keep secrets; why they cannot be kept is for whoever asked to know. */
export async function keeping<Result>(work: () => Promise<Result>): Promise<Result> {
  try {
    return await work();
  } catch (thrown) {
    if (thrown instanceof SecretProblem) error(400, thrown.message);
    throw thrown;
  }
}
