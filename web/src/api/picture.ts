/** A decoded picture, which its holder closes. */
export type Picture = ImageBitmap | VideoFrame;

/** A JPEG, decoded: at once from its bytes where the browser can, which spares a way through its other processes. */
export async function decoded(jpeg: Uint8Array<ArrayBuffer>): Promise<Picture> {
  const type = 'image/jpeg';
  if (!('ImageDecoder' in globalThis)) return createImageBitmap(new Blob([jpeg], { type }));
  const decoder = new ImageDecoder({ data: jpeg, type });
  try {
    return (await decoder.decode()).image;
  } finally {
    decoder.close();
  }
}

/** Draw a picture on a canvas, which becomes as large. */
export function drawn(canvas: HTMLCanvasElement | undefined, picture: Picture | null): void {
  if (!canvas || !picture) return;
  const [width, height] =
    'displayWidth' in picture
      ? [picture.displayWidth, picture.displayHeight]
      : [picture.width, picture.height];
  if (canvas.width !== width || canvas.height !== height) {
    canvas.width = width;
    canvas.height = height;
  }
  canvas.getContext('2d', { alpha: false })?.drawImage(picture, 0, 0);
}
