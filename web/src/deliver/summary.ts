/** Sizes of files, in words. */
export function bytes(count: number): string {
  if (count < 1e6) return `${Math.max(1, Math.round(count / 1e3))} kB`;
  return count < 1e9 ? `${Math.round(count / 1e6)} MB` : `${(count / 1e9).toFixed(1)} GB`;
}

/** How long something takes, in words. */
export function lasting(seconds: number): string {
  if (seconds < 90) return `${Math.max(1, Math.ceil(seconds))} s`;
  if (seconds < 5400) return `${Math.round(seconds / 60)} min`;
  return `${(seconds / 3600).toFixed(1)} h`;
}
