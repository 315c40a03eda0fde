/** What both ends have to be set to, side by side. */
export interface TwoEnds {
  what: string;
  ours: string;
  theirs: string;
  problem: string | null;
}
