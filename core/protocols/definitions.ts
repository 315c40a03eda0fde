import { addressing as dnp3, draftAtSchema, pointAtSchema, targetAtSchema } from './dnp3/points.ts';

/* What each protocol says of its points: the registration that the browser loads too. */

export const pointAt = pointAtSchema;
export const draftPointAt = draftAtSchema;
export const targetPointAt = targetAtSchema;

const ADDRESSINGS = { dnp3 } as const;
type Any = Parameters<(typeof ADDRESSINGS)[keyof typeof ADDRESSINGS]['print']>[0];

/** The text by which a point is known: `AI 7`; empty while it has no address. */
export const addressOf = (point: Any): string => ADDRESSINGS[point.at.protocol].print(point);

/** A text by whose order lists are sorted. */
export const sortOf = (point: Any): string => ADDRESSINGS[point.at.protocol].sort(point);

/** The point that an address as people write it means in a protocol; null: none. */
export const readAddress = (protocol: keyof typeof ADDRESSINGS, text: string): ReturnType<(typeof dnp3)['parse']> =>
  ADDRESSINGS[protocol].parse(text);

const byText = (a: string, b: string): number => (a < b ? -1 : a > b ? 1 : 0);
export const inAddressOrder = (a: Any, b: Any): number => byText(sortOf(a), sortOf(b));
