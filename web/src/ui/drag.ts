interface Handlers {
  move: (event: PointerEvent) => void;
  up?: (event: PointerEvent) => void;
}

/** Follow a pointer from its press to its release, wherever it goes. */
export function follow(event: PointerEvent, { move, up }: Handlers): void {
  const target = event.currentTarget as Element;
  target.setPointerCapture(event.pointerId);
  const stop = (e: Event): void => {
    target.removeEventListener('pointermove', move as EventListener);
    target.removeEventListener('pointerup', stop);
    target.removeEventListener('pointercancel', stop);
    up?.(e as PointerEvent);
  };
  target.addEventListener('pointermove', move as EventListener);
  target.addEventListener('pointerup', stop);
  target.addEventListener('pointercancel', stop);
}
