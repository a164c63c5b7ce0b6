/** Frames per second of a rate as the documents spell it: `25`, `30000/1001`. */
export function framesPerSecond(text: string): number {
  const [a, b] = text.split('/').map(Number);
  return a! / (b ?? 1);
}
