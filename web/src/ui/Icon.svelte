<script lang="ts" module>
  const paths = {
    emitter: 'M12 21v-7M12 14 5 4M12 14l7-10M12 14V3',
    zone: 'M12 4a8 8 0 1 0 0 16 8 8 0 0 0 0-16M12 9a3 3 0 1 0 0 6 3 3 0 0 0 0-6',
    marker: 'M12 4v5M12 15v5M4 12h5M15 12h5',
    light: 'M12 8a4 4 0 0 0-2 7.5V18h4v-2.5A4 4 0 0 0 12 8M10 21h4M12 2v3M4 9l2.5 1M20 9l-2.5 1',
    matte: 'M4 5h16v14H4zM4 14l6-6M4 19 18 5M10 19 20 9M16 19l4-4',
    group: 'M4 8h10v10H4zM8 8V5h12v12h-6',
    compare: 'M4 5h16v14H4zM12 3v18M15 9h2M15 12h2M15 15h2',
    library: 'M4 5h7v7H4zM13 5h7v7h-7zM4 14h7v6H4zM13 14h7v6h-7z',
    orbit: 'M12 5c5 0 9 3 9 7s-4 7-9 7-9-3-9-7 4-7 9-7M12 5c-2 2-3 4-3 7s1 5 3 7M12 5c2 2 3 4 3 7s-1 5-3 7',
    record: 'M12 7a5 5 0 1 0 0 10 5 5 0 0 0 0-10',
    control: 'M6 4v16M12 4v16M18 4v16M4 15h4M10 8h4M16 12h4',
    stage: 'M3 5h18v11H3zM9 20h6M12 16v4',
    sound: 'M3 12h2l2-5 3 11 3-14 3 11 2-3h3',
    loud: 'M4 9v6h4l5 4V5L8 9zM16 9a4 4 0 0 1 0 6M18.5 6.5a8 8 0 0 1 0 11',
    muted: 'M4 9v6h4l5 4V5L8 9zM17 10l4 4M21 10l-4 4',
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
    up: 'm6 15 6-6 6 6',
    down: 'm6 9 6 6 6-6',
    take: 'M3 17c4 0 4-9 8-9s3 6 6 6 2-3 4-3M3 21h18M7 4a2 2 0 1 0 .01 0',
    folder: 'M3 6h6l2 3h10v10H3z',
    curve: 'M3 19C9 19 9 5 21 5',
    save: 'M12 4v11m0 0-4-4m4 4 4-4M5 20h14',
  } as const;
  export type IconName = keyof typeof paths;
</script>

<script lang="ts">
  /** path: an icon of the schema, in place of one by name. */
  let {
    name = 'more',
    path,
    size = 16,
    filled = false,
  }: { name?: IconName; path?: string; size?: number; filled?: boolean } = $props();
</script>

<svg
  width={size}
  height={size}
  viewBox="0 0 24 24"
  fill={filled ? 'currentColor' : 'none'}
  stroke="currentColor"
  stroke-width={name === 'more' && !path ? 3 : 1.7}
  stroke-linecap="round"
  stroke-linejoin="round"
  aria-hidden="true"
>
  <path d={path || paths[name]} />
</svg>
