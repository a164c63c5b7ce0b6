import { describe, expect, it } from 'vitest';
import { ageAt, line, moved, valueAt, withPoint, without, x, y } from '../src/desk/lane';
import { frameOf, toShot } from '../src/picture/geometry';
import { own } from '../src/picture/grips';
import { moment, pasted, shifted, stretched, withKey } from '../src/timeline/keys';
import { arithmetic, shown } from '../src/ui/arithmetic';
import { framesPerSecond } from '../src/ui/rates';

const key = (at_s: number, value: number) => ({ at_s, value, joint: 'smooth' as const, ease: null });
const point = (at: number, value: number) => ({ at, value, joint: 'smooth' as const, ease: null });

describe('typed numbers', () => {
  it.each([
    ['12', 12],
    ['25*4', 100],
    ['(3 + 1) / 8', 0.5],
    ['-2.5', -2.5],
    ['1,5', 1.5],
    ['2 - -3', 5],
    ['1e3', 1000],
    ['2*(3+4)*5', 70],
  ])('%s', (text, value) => expect(arithmetic(text)).toBeCloseTo(value));

  it.each(['', 'abc', '2+', '(2', '1/0', '2 3', 'alert(1)'])('refuses %s', (text) =>
    expect(arithmetic(text)).toBeNull(),
  );

  it('are shown in four digits at most, with a true minus', () => {
    expect([shown(123.456), shown(-1.23456), shown(12.345), shown(0)]).toEqual([
      '123.5',
      '−1.235',
      '12.35',
      '0',
    ]);
  });

  it('rates are exact', () => {
    expect(framesPerSecond('25')).toBe(25);
    expect(framesPerSecond('30000/1001')).toBeCloseTo(29.97003, 5);
  });
});

describe('a lane', () => {
  const plot = { width: 200, height: 60, top: 2 };

  it('finds the age and the value under a place again', () => {
    for (const age of [0, 0.3, 1]) expect(ageAt(plot, x(plot, age))).toBeCloseTo(age);
    for (const value of [0, 0.7, 2]) expect(valueAt(plot, y(plot, value))).toBeCloseTo(value);
    expect(ageAt(plot, -5)).toBe(0);
    expect(valueAt(plot, 1e4)).toBe(0);
  });

  it('keeps a moved point between its neighbours', () => {
    const curve = { points: [point(0, 1), point(0.5, 1), point(1, 0)] };
    expect(moved(curve, 1, 2, -3).points[1]).toMatchObject({ at: 1, value: 0 });
    expect(curve.points[1]!.at).toBe(0.5);
  });

  it('puts a new point in its order, and is nothing without any', () => {
    const { curve, index } = withPoint({ points: [point(0, 1), point(1, 0)] }, point(0.4, 2));
    expect([index, curve.points.map((p) => p.at)]).toEqual([1, [0, 0.4, 1]]);
    expect(without({ points: [point(0, 1)] }, 0)).toBeNull();
  });

  it('is drawn from its left to its right end', () => {
    expect(line(plot, [0, 2]).split(' ')).toEqual(['0.0,55.0', '200.0,5.0']);
  });
});

describe('keys', () => {
  const keys = [key(0, 1), key(1, 2), key(2, 4)];

  it('one at a moment takes the value of the nearest, or is new', () => {
    expect(withKey(keys, 1.01, 9, 0.02).map((k) => k.value)).toEqual([1, 9, 4]);
    expect(withKey(keys, 1.5, 9, 0.02).map((k) => k.at_s)).toEqual([0, 1, 1.5, 2]);
    expect(keys).toHaveLength(3);
  });

  it('go together, stretch about the first, and are pasted where they are wanted', () => {
    expect(shifted(keys, new Set([0, 1]), 3, 10).map((k) => [k.at_s, k.value])).toEqual([
      [2, 4],
      [3, 11],
      [4, 12],
    ]);
    expect(stretched(keys, new Set([1, 2]), 3).map((k) => k.at_s)).toEqual([0, 1, 4]);
    expect(pasted(keys, [key(5, 7), key(5.5, 8)], 1, 0.02).map((k) => [k.at_s, k.value])).toEqual([
      [0, 1],
      [1, 7],
      [1.5, 8],
      [2, 4],
    ]);
  });

  it('stand at a ten-thousandth of a second', () => expect(moment(1 / 3)).toBe(0.3333));
});

describe('the picture on its stage', () => {
  const [stage, shot] = [
    { width: 800, height: 600 },
    { width: 1280, height: 720 },
  ];

  it('fits, in the middle', () => {
    expect(frameOf(stage, shot, null, { x: 0, y: 0 })).toEqual({ left: 0, top: 75, width: 800, height: 450 });
  });

  it('finds the px of the shot under a place again, at any zoom and shift', () => {
    const frame = frameOf(stage, shot, 1.7, { x: 31, y: -12 });
    const at = toShot(frame, shot, frame.left + 1.7 * 320, frame.top + 1.7 * 200);
    expect(at.x).toBeCloseTo(320);
    expect(at.y).toBeCloseTo(200);
  });

  it('turns a place into own px of a thing that is turned and sized', () => {
    const grip = { centre: [100, 100], axes: [0, -2, -2, 0] } as unknown as Parameters<typeof own>[0];
    const [ox, oy] = own(grip, { x: 90, y: 80 });
    expect([ox, oy]).toEqual([10, 5]);
  });
});
