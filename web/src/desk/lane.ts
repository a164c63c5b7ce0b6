import type { Curve, CurvePoint } from '../api/client';

/** A lane's drawing area: ages run across it, values up, from 0 to `top`. */
export interface Plot {
  width: number;
  height: number;
  top: number;
}

const margin = 5;

export function x(plot: Plot, age: number): number {
  return age * plot.width;
}

export function y(plot: Plot, value: number): number {
  return plot.height - margin - (value / plot.top) * (plot.height - 2 * margin);
}

export function ageAt(plot: Plot, px: number): number {
  return Math.min(1, Math.max(0, px / Math.max(1, plot.width)));
}

export function valueAt(plot: Plot, px: number): number {
  return Math.max(0, ((plot.height - margin - px) / (plot.height - 2 * margin)) * plot.top);
}

/** A line through values at even ages. */
export function line(plot: Plot, values: readonly number[]): string {
  const last = Math.max(1, values.length - 1);
  return values.map((value, i) => `${x(plot, i / last).toFixed(1)},${y(plot, value).toFixed(1)}`).join(' ');
}

/** The area between two rows of values at even ages. */
export function band(plot: Plot, low: readonly number[], high: readonly number[]): string {
  const last = Math.max(1, low.length - 1);
  const there = high.map((value, i) => `${x(plot, i / last).toFixed(1)},${y(plot, value).toFixed(1)}`);
  const back = low
    .map((value, i) => `${x(plot, i / last).toFixed(1)},${y(plot, value).toFixed(1)}`)
    .reverse();
  return [...there, ...back].join(' ');
}

export function withPoint(curve: Curve, point: CurvePoint): { curve: Curve; index: number } {
  const points = [...curve.points, point].sort((a, b) => a.at - b.at);
  return { curve: { points }, index: points.indexOf(point) };
}

/** Move a point; it stays between its neighbours. */
export function moved(curve: Curve, index: number, at: number, value: number): Curve {
  const points = curve.points.map((p) => ({ ...p }));
  const [before, after] = [points[index - 1]?.at ?? 0, points[index + 1]?.at ?? 1];
  points[index] = { ...points[index]!, at: Math.min(after, Math.max(before, at)), value: Math.max(0, value) };
  return { points };
}

export function without(curve: Curve, index: number): Curve | null {
  const points = curve.points.filter((_, i) => i !== index);
  return points.length > 0 ? { points } : null;
}
