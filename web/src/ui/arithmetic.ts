/** Read a typed number: `12`, `25*4`, `(3 + 1) / 8`, `-2.5`; null if it is no number. */
export function arithmetic(text: string): number | null {
  const tokens = text.replace(/,/g, '.').match(/\d+\.?\d*(?:e[+-]?\d+)?|\.\d+|[-+*/()]|\S/gi) ?? [];
  let at = 0;
  const atom = (): number => {
    const token = tokens[at++];
    if (token === '-') return -atom();
    if (token === '+') return atom();
    if (token === '(') {
      const inside = sum();
      if (tokens[at++] !== ')') return NaN;
      return inside;
    }
    return token === undefined ? NaN : Number(token);
  };
  const product = (): number => {
    let value = atom();
    while (tokens[at] === '*' || tokens[at] === '/')
      value = tokens[at++] === '*' ? value * atom() : value / atom();
    return value;
  };
  const sum = (): number => {
    let value = product();
    while (tokens[at] === '+' || tokens[at] === '-')
      value = tokens[at++] === '+' ? value + product() : value - product();
    return value;
  };
  const value = sum();
  return at === tokens.length && Number.isFinite(value) ? value : null;
}

/** A number as people read it: no more than four significant decimals, a true minus. */
export function shown(value: number): string {
  const digits = Math.abs(value) >= 100 ? 1 : Math.abs(value) >= 10 ? 2 : 3;
  return String(Number(value.toFixed(digits))).replace('-', '−');
}
