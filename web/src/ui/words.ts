/** Labels of choices whose name in the document is too short, or no plain English. */
const labels: Record<string, string> = {
  px: 'Px travelled',
  along: 'Along the edge',
  anywhere: 'Any direction',
  travel: 'Direction of travel',
  moving: 'Motion',
  half: 'Half space',
  held: 'Fixed',
  together: 'In sync',
  'as born': 'In order of birth',
  'as in the cast': 'Order of the cast',
  'as it suits': 'Automatic',
  performed: 'Live',
  'performed, in rounds': 'Live, restarting',
  'over and over': 'Repeat',
  'at touch': 'At contact',
  'at catching': 'At infection',
  'since touch': 'Time since contact',
  'since caught': 'Time since infection',
  'is immune': 'Immune',
  'can catch it again': 'Can be infected again',
  'where it is dark': 'Where the plate is dark',
  'where it is bright': 'Where the plate is bright',
  'of its head': 'Current colour',
  'of each age': 'Colour of each age',
  'ends with it': 'Ends with the particle',
  'is caught up': 'Retracts',
  'of the particles': 'Colours of the particles',
  'at the foot': 'At the end',
  'one of them': 'Random frame',
};

/** The label of a choice, or of a thing by its name. */
export function sentence(name: string): string {
  const plain = labels[name] ?? name.replaceAll('_', ' ');
  return plain[0]!.toUpperCase() + plain.slice(1);
}
