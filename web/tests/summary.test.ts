import { expect, test } from 'vitest';
import { bytes, lasting } from '../src/deliver/summary';

test('sizes are preview in the unit that is read', () => {
  expect([0, 999, 12_345, 999_499, 1.26e6, 9.99e8, 1.25e9].map(bytes)).toEqual([
    '1 kB',
    '1 kB',
    '12 kB',
    '999 kB',
    '1 MB',
    '999 MB',
    '1.3 GB',
  ]);
});

test('times are preview as coarsely as they are known', () => {
  expect([0.2, 1.2, 89, 91, 5399, 5401, 86_400].map(lasting)).toEqual([
    '1 s',
    '2 s',
    '89 s',
    '2 min',
    '90 min',
    '1.5 h',
    '24.0 h',
  ]);
});
