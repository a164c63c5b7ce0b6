import { describe, expect, it, vi } from 'vitest';
import { Refused, type Shot, type ShotState } from '../src/api/client';
import { changed, Edits, queued, type Edit } from '../src/state/edits.svelte';

const edit = (path: string, value: unknown, gesture: string | null = null): Edit => ({
  changes: [{ op: 'replace', path, value }],
  label: path,
  gesture,
});
const shot = { name: 'A', emitters: [{ id: 'a', rate: { value: 1 } }] } as unknown as Shot;

describe('changes of a shot', () => {
  it('are made on a copy, whatever they are', () => {
    const value = { id: 'b' };
    const next = changed(shot, [
      { op: 'replace', path: '/emitters/0/rate/value', value: 5 },
      { op: 'add', path: '/emitters/-', value },
    ]) as unknown as { emitters: { id: string; rate?: { value: number } }[] };
    expect(next.emitters.map((e) => e.id)).toEqual(['a', 'b']);
    expect(next.emitters[0]!.rate!.value).toBe(5);
    expect(shot.emitters).toHaveLength(1);
    next.emitters[1]!.id = 'c';
    expect(value.id).toBe('b');
  });

  it('that do not fit are left to the studio', () => {
    expect(changed(shot, [{ op: 'replace', path: '/nowhere/at/all', value: 1 }])).toBeNull();
    expect(changed(shot, [{ op: 'replace', path: '/__proto__/x', value: 1 }])).toBeNull();
  });
});

describe('edits that wait', () => {
  it('of one gesture are one, with the last value', () => {
    let waiting = queued([], edit('/a', 1, 'g'));
    waiting = queued(waiting, edit('/a', 2, 'g'));
    waiting = queued(waiting, edit('/b', 3, 'g'));
    expect(waiting).toHaveLength(1);
    expect(waiting[0]!.changes.map((c) => [c.path, c.value])).toEqual([
      ['/a', 2],
      ['/b', 3],
    ]);
  });

  it('of others stay apart, and so do those of none', () => {
    let waiting = queued([], edit('/a', 1, 'g'));
    waiting = queued(waiting, edit('/a', 2, 'h'));
    waiting = queued(queued(waiting, edit('/a', 3)), edit('/a', 4));
    expect(waiting.map((e) => e.changes[0]!.value)).toEqual([1, 2, 3, 4]);
  });

  it('go one after the other, and what is newer while one is on its way is sent once', async () => {
    const sent: unknown[] = [];
    let free: (() => void)[] = [];
    const took = vi.fn();
    const edits = new Edits(
      (e) =>
        new Promise((done) => {
          sent.push(e.changes[0]!.value);
          free.push(() => done({ revision: sent.length } as ShotState));
        }),
      took,
      async () => undefined,
    );
    for (const value of [1, 2, 3, 4]) edits.put(edit('/a', value, 'drag'));
    expect(sent).toEqual([1]);
    while (!edits.idle) {
      const now = free;
      free = [];
      now.forEach((go) => go());
      await new Promise((tick) => setTimeout(tick));
    }
    expect(sent).toEqual([1, 4]);
    expect(took.mock.calls.map(([, last]) => last)).toEqual([false, true]);
  });

  it('go on behind one that is refused, and the shot is asked for again', async () => {
    const failed = vi.fn(async () => undefined);
    const sent: string[] = [];
    const send = (e: Edit): Promise<ShotState> => {
      sent.push(e.changes[0]!.path);
      const problem = { what: 'It is out of range.', where: '/a', remedy: '' };
      return e.changes[0]!.path === '/a'
        ? Promise.reject(new Refused(problem, 422))
        : Promise.resolve({ revision: 2 } as ShotState);
    };
    const took = vi.fn();
    const edits = new Edits(send, took, failed);
    edits.put(edit('/a', 1));
    edits.put(edit('/b', 1));
    await vi.waitFor(() => expect(edits.idle).toBe(true));
    expect(sent).toEqual(['/a', '/b']);
    expect(failed).toHaveBeenCalledOnce();
    expect(took).toHaveBeenCalledOnce();
    expect(edits.saving).toBe(false);
  });

  it('are kept while the studio does not answer, sent again, and said so', async () => {
    let answers = 0;
    const sent: Edit[] = [];
    const send = (e: Edit): Promise<ShotState> => {
      sent.push(e);
      const problem = { what: 'The studio does not answer.', where: '', remedy: '' };
      return answers++ < 3
        ? Promise.reject(new Refused(problem))
        : Promise.resolve({ revision: 1 } as ShotState);
    };
    const took = vi.fn();
    const failed = vi.fn(async () => undefined);
    const paused: number[] = [];
    const edits = new Edits(send, took, failed, async (ms) => void paused.push(ms));
    edits.put({ ...edit('/emitters/-', {}), changes: [{ op: 'add', path: '/emitters/-', value: {} }] });
    edits.put(edit('/b', 1));
    await vi.waitFor(() => expect(edits.idle).toBe(true));
    expect(sent.map((e) => e.changes[0]!.path)).toEqual([
      '/emitters/-',
      '/emitters/-',
      '/emitters/-',
      '/emitters/-',
      '/b',
    ]);
    // The same edit, by its gesture, and marked as one that may have been made.
    expect(new Set(sent.slice(0, 4).map((e) => e.gesture)).size).toBe(1);
    expect(sent.map((e) => e.again ?? false)).toEqual([false, true, true, true, false]);
    expect(paused).toEqual([500, 1000, 2000]);
    expect(failed).not.toHaveBeenCalled();
    expect(took).toHaveBeenCalledTimes(2);
    expect(edits.held).toBe(0);
  });
});
