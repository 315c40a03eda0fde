import type { ObjectKind } from '../document/objects.ts';

/** A problem keeps a configuration from being applied; a warning only informs. */
export type Severity = 'problem' | 'warning';

export interface ConfigurationProblem {
  severity: Severity;
  /** Where, in the words of the document: `device HLM-F1, BI 0`. */
  where: string;
  words: string;
  /** The object that it is about, when there is one. */
  at?: { kind: ObjectKind; parent: string; key: string };
}

/** What is not right with one point of a list, and what would mend it. */
export interface PointProblem {
  severity: Severity;
  /** Its place in the list that was checked. */
  row: number;
  field: string;
  words: string;
  fix?: { words: string; set: object };
}
