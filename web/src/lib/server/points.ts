import { scalingOf, type Operation, type Reading } from '@halvix/core/point';
import { addressOf } from '@halvix/core/protocols';
import type { PointConfig } from '@halvix/core/config';
import { feedbackOf } from '@halvix/core/config';
import { latestOf } from '@halvix/db';
import { database } from './database.ts';
import type { ModelPoint } from './model.ts';

/** A point as the screens show it. */
export interface PointView {
  id: number;
  device: string;
  kind: ModelPoint['config']['kind'];
  at: PointConfig['at'];
  address: string;
  name: string;
  unit: string;
  gain: number;
  offset: number;
  states: string[] | null;
  control: {
    operations: Operation[];
    onMs: number;
    offMs: number;
    feedback: {
      name: string;
      address: string;
      pointId: number | null;
      states: string[] | null;
      expect: Partial<Record<Operation, number>>;
    } | null;
  } | null;
  /** Of an analog setpoint: how it is set, and the point that follows. */
  setting:
    (NonNullable<PointConfig['setting']> & { follows: { name: string; pointId: number | null; unit: string } }) | null;
}

export function pointView(
  { id, device, config }: ModelPoint,
  idOf: (address: string) => number | undefined,
): PointView {
  const { kind, at, name, unit, states, control, setting } = config;
  const { gain, offset } = scalingOf(config);
  const address = addressOf(config);
  const pointAt = (wanted: string): PointConfig | undefined => device.points.find((p) => addressOf(p) === wanted);
  const feedback = feedbackOf(config);
  const shows = feedback && pointAt(feedback.point);
  const follower = setting?.feedback ?? address;
  const follows = (setting && pointAt(follower)) ?? config;
  return {
    id,
    device: device.code,
    kind,
    at,
    address,
    name,
    unit,
    gain,
    offset,
    states,
    control: control && {
      operations: control.operations,
      onMs: control.onMs,
      offMs: control.offMs,
      feedback:
        feedback && shows
          ? {
              name: shows.name,
              address: feedback.point,
              pointId: idOf(feedback.point) ?? null,
              states: shows.states,
              expect: feedback.expect,
            }
          : null,
    },
    setting: setting && {
      ...setting,
      follows: { name: follows.name, unit: follows.unit, pointId: idOf(follower) ?? null },
    },
  };
}

export const readingsOf = async (ids: readonly number[]): Promise<Record<number, Reading>> =>
  Object.fromEntries(await latestOf(database, ids));
