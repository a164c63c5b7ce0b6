const words: Record<string, string> = {
  deep: 'Depth of it',
  along_x: 'Along x',
  along_y: 'Along y',
  along_z: 'Along z',
  in_depth: 'Fan in depth',
  shell_side: 'Shell lies',
  speed_limit: 'Speed limit',
  rate_per: 'Rate is per',
  apart: 'Emitters apart',
  swell: 'Swell of size',
  scale: 'Size of it',
  fill: 'Born in its',
  half: 'Half',
  by: 'Where it is',
  above: 'Above',
  lacunarity: 'Finer by',
  gain: 'Weaker by',
  px: 'Px travelled',
  law: 'Grows with speed',
  start_s: 'Start',
  delay_s: 'Delay',
  px_per_metre: 'Px per metre',
  text: 'Letters',
  inner: 'Inner corners',
  thin: 'Thin rays',
  rough: 'Rough edge',
  variants: 'Variants',
  turn_x: 'Turned about x',
  turn_y: 'Turned about y',
  spin_x: 'Spin about x',
  spin_y: 'Spin about y',
  sorting: 'Drawn in order',
  on: 'Shown',
  head: 'Light toward head',
  plays: 'Plays',
  random_start: 'Random start',
  tinted: 'Takes the colour',
  split: 'One gets',
  deal: 'Dealt out',
  fade: 'Fades',
  tail: 'Width at its end',
  after_death: 'Its trail',
  head_waits: 'Head waits for it',
  head_shown: 'Head shown',
  colours: 'Colours',
  gap_s: 'Apart',
  most: 'At most',
  bodies: 'Bodies shown',
  facing: 'Faces',
  stretch: 'Stretch',
  colour_by: 'Colour by',
  colour_from: 'Gradient from',
  colour_to: 'Gradient to',
  lightness: 'Value',
  lit: 'Waits for light',
  sigma: 'Blur',
  dark: 'Dark',
  coloured: 'Coloured',
  power: 'Falls by power',
  near: 'Counts in full',
  soft: 'Fades over',
  low: 'From brightness',
  high: 'To brightness',
  shutter_phase: 'Shutter phase',
  focus: 'Focus at depth',
  detail: 'Detail',
  points: 'Points',
  kind: 'Kind',
};

/** A field's or a choice's name as a label. */
export function sentence(name: string): string {
  const plain = words[name] ?? name.replaceAll('_', ' ');
  return plain[0]!.toUpperCase() + plain.slice(1);
}

const surfaces: Record<string, string[]> = {
  plane: [],
  rectangle: ['width', 'deep'],
  box: ['width', 'height', 'deep', 'side'],
  sphere: ['radius', 'side'],
  path: ['closed'],
  matte: ['above'],
};
const zones: Record<string, string[]> = { sphere: ['radius'], box: ['width', 'height', 'deep'], half: [] };

const matteAlways = ['kind', 'feather', 'inverted'];
const mattes: Record<string, string[]> = {
  shape: [...matteAlways, 'form', 'width', 'height'],
  bright: [...matteAlways, 'low', 'high'],
  dark: [...matteAlways, 'low', 'high'],
  colour: [...matteAlways, 'colour', 'near', 'soft'],
  file: [...matteAlways, 'channel'],
};

/** Whether a field means anything with the other values of its thing. */
export function wanted(model: string, field: string, values: Record<string, unknown>): boolean {
  if (model === 'Surface') {
    const measures = ['width', 'height', 'deep', 'radius', 'closed', 'above', 'side'];
    if (measures.includes(field)) return surfaces[String(values.shape)]?.includes(field) ?? true;
    if (field === 'restitution') return values.outcome === 'bounce';
    if (field === 'friction') return values.outcome === 'bounce' || values.outcome === 'slide';
  }
  if (model === 'Zone' && ['radius', 'width', 'height', 'deep'].includes(field))
    return zones[String(values.shape)]?.includes(field) ?? true;
  if (model === 'Round' && field === 'softness') return values.kind === 'soft disc';
  if (model === 'PictureBody' && ['speed', 'rate', 'random_start'].includes(field))
    return values.plays !== 'one of them';
  if (model === 'Emitter' && (field === 'colour_from' || field === 'colour_to'))
    return values.colour_by === 'speed' || values.colour_by === 'distance';
  if (model === 'Matte') return mattes[String(values.kind)]?.includes(field) ?? true;
  if (field === 'thickness' || field === 'shell_side') return values.fill === 'shell';
  return true;
}
