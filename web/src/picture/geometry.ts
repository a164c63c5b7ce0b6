/** The picture's rectangle on its stage, for a zoom and a shift; and the way back from the stage to px of the shot. */
export interface Frame {
  left: number;
  top: number;
  width: number;
  height: number;
}

export function frameOf(
  stage: { width: number; height: number },
  shot: { width: number; height: number },
  zoom: number | null,
  shift: { x: number; y: number },
): Frame {
  const fit = Math.min(stage.width / shot.width, stage.height / shot.height);
  const scale = zoom ?? fit;
  const [width, height] = [shot.width * scale, shot.height * scale];
  return {
    left: (stage.width - width) / 2 + shift.x,
    top: (stage.height - height) / 2 + shift.y,
    width,
    height,
  };
}

/** Px of the shot from its top left corner, at a place on the stage. */
export function toShot(
  frame: Frame,
  shot: { width: number },
  x: number,
  y: number,
): { x: number; y: number } {
  const scale = shot.width / frame.width;
  return { x: (x - frame.left) * scale, y: (y - frame.top) * scale };
}

export function polyline(points: readonly (readonly [number, number])[]): string {
  return points.map(([x, y]) => `${x},${y}`).join(' ');
}
