import { describe, expect, it, vi } from 'vitest';
import { pointed } from '../src/stage/conductor.svelte';

describe('the pointer on the stage', () => {
  it('is reported within the picture, from the left and from below', () => {
    vi.stubGlobal('innerWidth', 1280);
    vi.stubGlobal('innerHeight', 800);
    const at = (clientX: number, clientY: number, buttons = 0): [string, number][] =>
      pointed({ clientX, clientY, buttons } as PointerEvent, 1280, 720, 0);
    // 720 lines in the middle of 800.
    expect(at(0, 40)).toEqual([
      ['/pointer/x', 0],
      ['/pointer/y', 1],
      ['/pointer/down', 0],
    ]);
    expect(at(640, 400, 1)).toEqual([
      ['/pointer/x', 0.5],
      ['/pointer/y', 0.5],
      ['/pointer/down', 1],
    ]);
    // In the black above and below it stays at the edge.
    expect(at(1280, 800)[1]).toEqual(['/pointer/y', 0]);
    expect(pointed({ clientX: 0, clientY: 0, buttons: 1 } as PointerEvent, 1280, 720, 2)[0]![0]).toBe(
      '/pointer/3/x',
    );
  });
});
