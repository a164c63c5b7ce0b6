import { get, type Body, type BodyKind } from '../api/client';

/** The model in the schema of each kind of body. */
export const bodyModels: Record<Body['kind'], string> = {
  'soft disc': 'Round',
  'hard disc': 'Round',
  ring: 'Ring',
  star: 'Star',
  spark: 'Spark',
  puff: 'Puff',
  drop: 'Drop',
  square: 'Square',
  shard: 'Shard',
  streak: 'Streak',
  picture: 'PictureBody',
  words: 'Words',
};

/** The kinds of bodies that the engine draws, each as it is when it is chosen. */
class BodyKinds {
  all = $state.raw<BodyKind[]>([]);
  private asked = false;

  async load(): Promise<void> {
    if (this.asked) return;
    this.asked = true;
    try {
      this.all = await get<BodyKind[]>('/api/bodies');
    } catch (error) {
      this.asked = false;
      throw error;
    }
  }
}

export const bodyKinds = new BodyKinds();

/** The picture of a body, drawn by the engine. */
export function bodyPicture(body: unknown): string {
  return `/api/bodies/picture?side=64&body=${encodeURIComponent(JSON.stringify(body))}`;
}
