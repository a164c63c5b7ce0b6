import { describe, expect, it } from 'vitest';
import type { ProjectCard, ShotCard } from '../src/api/client';
import { arranged, droppedAs, recent } from '../src/home/arrangement';
import { HomeSettings } from '../src/home/home_settings.svelte';

const shot = (name: string, opened: string | null, created: string): ShotCard =>
  ({ id: name.length, name, opened, created }) as ShotCard;
const project = (name: string, ...shots: ShotCard[]): ProjectCard =>
  ({ id: 1, name, shots, created: '2026-01' }) as ProjectCard;
const names = (found: ProjectCard[]): string[] => found.flatMap((one) => one.shots.map((s) => s.name));

const film = project('Film', shot('Beacon 10', null, '2026-03'), shot('Beacon 9', '2026-05', '2026-01'));
const stage = project(
  'Stage screens',
  shot('Shoal', '2026-06', '2026-02'),
  shot('Kelp', '2026-02', '2026-04'),
);

describe('projects and shots', () => {
  it('come with the last one opened first', () => {
    expect(names(arranged([film, stage], '', 'opened'))).toEqual(['Shoal', 'Kelp', 'Beacon 9', 'Beacon 10']);
    expect(recent([film, stage], 2).map((s) => s.name)).toEqual(['Shoal', 'Beacon 9']);
  });

  it('are put in order by name, by age, or as they are in the project', () => {
    expect(names(arranged([film], '', 'name'))).toEqual(['Beacon 9', 'Beacon 10']);
    expect(names(arranged([film, stage], '', 'made'))).toEqual(['Kelp', 'Shoal', 'Beacon 10', 'Beacon 9']);
    expect(names(arranged([film], '', 'order'))).toEqual(['Beacon 10', 'Beacon 9']);
  });

  it('are found by all words that are typed, in the name of the shot or of its project', () => {
    expect(names(arranged([film, stage], 'beac 9', 'name'))).toEqual(['Beacon 9']);
    expect(names(arranged([film, stage], 'STAGE kelp', 'name'))).toEqual(['Kelp']);
    expect(names(arranged([film, stage], 'stage', 'name'))).toEqual(['Kelp', 'Shoal']);
    expect(arranged([film, stage], 'nothing like it', 'name')).toEqual([]);
    expect(film.shots).toHaveLength(2);
  });

  it('take dropped files for what their names say', () => {
    expect(['a.isbjorn.zip', 'b.isbjorn.json', 'c.otio', 'd.mov'].map(droppedAs)).toEqual([
      'project',
      'shot',
      'cuts',
      'plate',
    ]);
  });
});

describe('how the home page is shown', () => {
  it('is remembered, and starts from the defaults if it cannot be read', () => {
    const kept = new Map<string, string>();
    const storage = {
      getItem: (key: string) => kept.get(key) ?? null,
      setItem: (key: string, value: string) => void kept.set(key, value),
    };
    const first = new HomeSettings(storage);
    expect([first.sort, first.isFolded(7, 0), first.isFolded(8, 2)]).toEqual(['opened', false, true]);
    first.set({ sort: 'name', small: true });
    first.fold(8, false);
    const again = new HomeSettings(storage);
    expect([again.sort, again.small, again.isFolded(8, 2)]).toEqual(['name', true, false]);
    kept.set('isbjorn-home', '{');
    expect(new HomeSettings(storage).sort).toBe('opened');
  });
});
