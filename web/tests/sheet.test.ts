import { describe, expect, it } from 'vitest';
import type { SheetAsk, SheetHeader, SheetState } from '../src/api/client';
import type { Picture } from '../src/api/picture';
import { asked, Sheet, type Heard } from '../src/sweep/sheet.svelte';
import { Variations } from '../src/sweep/variations.svelte';

const axis = { path: '/emitters/0/rate', start: 1, end: 9, spacing: 'even' } as const;
const ask = asked({ columns: { path: axis.path, start: null, end: null, spacing: null }, frame: 4, loop: 2 });

function made(): { sheet: Sheet; heard: Heard; sent: SheetAsk[]; tell: (message: object) => void } {
  const sent: SheetAsk[] = [];
  let heard!: Heard;
  const sheet = new Sheet(1, ask, (_, hears) => {
    heard = hears;
    return { send: (text) => sent.push(JSON.parse(text) as SheetAsk), close: () => undefined };
  });
  heard.opened();
  return { sheet, heard, sent, tell: (message) => heard.text(JSON.stringify(message)) };
}

const state = (serial: number): object => ({
  kind: 'sheet',
  serial,
  columns: axis,
  rows: null,
  size: [1, 2],
  cells: [
    { row: 0, column: 0, values: [1], changes: [], current: false },
    { row: 0, column: 1, values: [9], changes: [], current: true },
  ],
  frames: [4, 5],
});

let open = 0;
function picture(): Picture {
  open++;
  return { close: () => open-- } as unknown as Picture;
}
const header = (serial: number, cell: number, at: number): SheetHeader => ({
  serial,
  cell,
  picture: at,
  exact: true,
});

describe('a sheet', () => {
  it('asks when its socket opens, and again after it was lost', () => {
    const { heard, sent } = made();
    expect(sent).toEqual([ask]);
    heard.opened();
    expect(sent).toHaveLength(2);
  });

  it('shows the nearest picture that it has of a cell, and closes what is replaced', () => {
    open = 0;
    const { sheet, heard, tell } = made();
    tell(state(1));
    expect(sheet.at(0, 0)).toBeUndefined();
    const coarse = picture();
    heard.picture(header(1, 0, 0), coarse);
    expect(sheet.begun).toBe(1);
    expect(sheet.at(0, 1)).toBe(coarse);
    heard.picture(header(1, 0, 0), picture());
    expect(open).toBe(1);
    // One of a sheet that is over.
    heard.picture(header(0, 1, 0), picture());
    expect([open, sheet.begun]).toEqual([1, 1]);
    tell(state(2));
    expect([open, sheet.begun]).toEqual([0, 0]);
    sheet.close();
  });

  it('narrows about a cell within the ranges that are shown', () => {
    const { sheet, sent, tell } = made();
    tell(state(1));
    sheet.around((sheet.state as SheetState).cells[1]!, 0.5);
    expect(sent.at(-1)).toMatchObject({ columns: axis, around: { column: 9, row: null, by: 0.5 } });
    sheet.want({ count: 5 });
    expect(sent.at(-1)).toMatchObject({ count: 5, around: null });
    expect(sheet.shown).toMatchObject({ columns: axis, rows: null, count: 5 });
  });

  it('keeps what was refused and when it was done, of this sheet only', () => {
    const { sheet, tell } = made();
    tell(state(3));
    tell({ kind: 'refused', serial: 2, cell: 0, what: 'old' });
    tell({ kind: 'done', serial: 2, ms: 5 });
    expect([sheet.refused, sheet.waiting]).toEqual([{}, true]);
    tell({ kind: 'refused', serial: 3, cell: 1, what: 'too long' });
    tell({ kind: 'done', serial: 3, ms: 7 });
    expect([sheet.refused, sheet.waiting]).toEqual([{ 1: 'too long' }, false]);
    tell({ kind: 'problem', what: 'no number', where: '', remedy: '' });
    expect(sheet.problem?.what).toBe('no number');
  });
});

describe('the way through variations', () => {
  it('goes on from a look, rejects a sheet, and can be walked back', () => {
    const path = new Variations();
    const first = path.asked;
    expect([path.canGoBack, path.look]).toEqual([false, {}]);
    path.from({ look: { '/a': 1 } });
    const second = path.asked;
    expect(path.look).toEqual({ '/a': 1 });
    path.others();
    expect(path.asked.parents).toEqual(second.parents);
    expect(path.asked.seed).not.toBe(second.seed);
    path.back();
    path.back();
    expect(path.asked).toEqual(first);
    path.forward();
    expect(path.asked).toEqual(second);
    // Another way from here forgets the one that was gone.
    path.from({ look: { '/b': 2 } });
    expect([path.canGoForward, path.look]).toEqual([false, { '/b': 2 }]);
  });

  it('breeds two marked looks', () => {
    const path = new Variations();
    path.breed();
    expect(path.canGoBack).toBe(false);
    const [a, b, c] = [{ look: { '/a': 1 } }, { look: { '/a': 2 } }, { look: { '/a': 3 } }];
    path.mark(a);
    path.mark(a);
    expect(path.marked).toEqual([]);
    for (const one of [a, b, c]) path.mark(one);
    expect(path.marked).toEqual([b.look, c.look]);
    path.breed();
    expect(path.asked.parents).toEqual([b.look, c.look]);
    expect(path.marked).toEqual([]);
  });

  it('keeps locked numbers out of what is asked', () => {
    const path = new Variations();
    path.lock('/a', true);
    path.lock('/b', true);
    path.lock('/a', false);
    expect(path.asked.locked).toEqual(['/b']);
  });
});
