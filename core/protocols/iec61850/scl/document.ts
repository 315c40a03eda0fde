import type { Constraint } from '../model/reference.ts';

/*
 * What is taken from a file of the substation configuration language (IEC 61850-6, editions 1, 2 and 2.1): devices with
 * their addresses, their nodes, data sets and report control blocks, and the types of what is in them. What is private,
 * or for other purposes, is passed over.
 */

export interface Scl {
  /** Of the schema: `2007B4`; edition 1 says none. */
  version: string;
  header: { id: string; version: string; revision: string; tool: string };
  ieds: Ied[];
  addresses: ConnectedAccessPoint[];
  templates: Templates;
}

export interface Ied {
  line: number;
  name: string;
  type: string;
  manufacturer: string;
  description: string;
  accessPoints: { name: string; line: number; devices: LDevice[] }[];
}

export interface LDevice {
  line: number;
  instance: string;
  /** The name that it has in MMS, where that is not made of those of device and instance. */
  name: string;
  description: string;
  nodes: Ln[];
}

export interface Ln {
  line: number;
  prefix: string;
  class: string;
  instance: string;
  type: string;
  description: string;
  dataSets: { line: number; name: string; members: Fcda[] }[];
  reports: ReportBlock[];
  /** Descriptions of data objects, and values of attributes, by the names that lead to them with dots between. */
  descriptions: Map<string, string>;
  values: Map<string, { line: number; value: string }>;
  /** Values of setting groups, which differ from group to group. */
  groupValues: { path: string; group: number; value: string }[];
  groups: { count: number; active: number; reserveS: number } | null;
  logs: { line: number; name: string; dataSet: string; log: string; isEnabled: boolean }[];
}

export interface Fcda {
  line: number;
  device: string;
  prefix: string;
  class: string;
  instance: string;
  object: string;
  attribute: string;
  fc: string;
  index: string;
}

export interface ReportBlock {
  line: number;
  name: string;
  dataSet: string;
  isBuffered: boolean;
  isIndexed: boolean;
  instances: number;
  /** Empty: its reference. */
  id: string;
  revision: number;
  bufferMs: number;
  integrityMs: number;
}

export interface ConnectedAccessPoint {
  line: number;
  ied: string;
  accessPoint: string;
  /** By their types: IP, OSI-TSEL, OSI-AP-Title. */
  parameters: Map<string, string>;
}

export interface Templates {
  nodes: Map<string, { line: number; class: string; objects: { line: number; name: string; type: string }[] }>;
  objects: Map<string, { line: number; cdc: string; parts: TemplatePart[] }>;
  structures: Map<string, { line: number; parts: TemplatePart[] }>;
  enumerations: Map<string, { line: number; values: Map<string, number> }>;
}

export interface TemplatePart {
  line: number;
  /** A data object within a data object, or an attribute. */
  isObject: boolean;
  name: string;
  basic: string;
  type: string;
  fc: Constraint | '';
  count: number;
  value: string | null;
}

export interface SclProblem {
  line: number;
  severity: 'problem' | 'warning';
  words: string;
}
