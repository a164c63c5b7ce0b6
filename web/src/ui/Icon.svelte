<script lang="ts" module>
  const paths = {
    emitter: 'M12 21v-7M12 14 5 4M12 14l7-10M12 14V3',
    gravity: 'M12 4v14m0 0-4-4m4 4 4-4M5 21h14',
    drag: 'M3 9h11a3 3 0 1 0-3-3M3 13h15a3 3 0 1 1-3 3M3 17h7',
    plate: 'M3 6h18v12H3zM3 15l5-4 4 3 4-5 5 5',
    plus: 'M12 5v14M5 12h14',
    undo: 'M9 14 4 9l5-5M4 9h10a6 6 0 0 1 0 12h-3',
    redo: 'm15 14 5-5-5-5M20 9H10a6 6 0 0 0 0 12h3',
    play: 'M7 4v16l13-8z',
    pause: 'M7 5v14M17 5v14',
    more: 'M6 12h.01M12 12h.01M18 12h.01',
    close: 'M6 6l12 12M18 6 6 18',
    pick: 'm14 6 4 4M4 20l1-4L15 6l3 3L8 19zM13 4l7 7',
    sun: 'M12 8a4 4 0 1 0 0 8 4 4 0 0 0 0-8M12 2v3M12 19v3M2 12h3M19 12h3M5 5l2 2M17 17l2 2M5 19l2-2M17 7l2-2',
    moon: 'M20 14A8 8 0 0 1 10 4a8 8 0 1 0 10 10',
    search: 'M11 4a7 7 0 1 0 0 14 7 7 0 0 0 0-14M16 16l5 5',
    trash: 'M4 7h16M9 7V4h6v3M6 7l1 13h10l1-13',
    copy: 'M8 8h12v12H8zM4 16V4h12',
    chevron: 'm9 6 6 6-6 6',
    folder: 'M3 6h6l2 3h10v10H3z',
    curve: 'M3 19C9 19 9 5 21 5',
    save: 'M12 4v11m0 0-4-4m4 4 4-4M5 20h14',
  } as const;
  export type IconName = keyof typeof paths;
</script>

<script lang="ts">
  let { name, size = 16, filled = false }: { name: IconName; size?: number; filled?: boolean } = $props();
</script>

<svg
  width={size}
  height={size}
  viewBox="0 0 24 24"
  fill={filled ? 'currentColor' : 'none'}
  stroke="currentColor"
  stroke-width={name === 'more' ? 3 : 1.7}
  stroke-linecap="round"
  stroke-linejoin="round"
  aria-hidden="true"
>
  <path d={paths[name]} />
</svg>
