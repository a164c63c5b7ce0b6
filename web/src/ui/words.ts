/** Choices of the document that are told in more words than they are called. */
const words: Record<string, string> = {
  px: 'Px travelled',
};

/** A choice's or a thing's name as a label. */
export function sentence(name: string): string {
  const plain = words[name] ?? name.replaceAll('_', ' ');
  return plain[0]!.toUpperCase() + plain.slice(1);
}
