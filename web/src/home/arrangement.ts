import type { ProjectCard, ShotCard } from '../api/client';

export type Sort = 'opened' | 'name' | 'made' | 'order';

/** How shots may be put in order. */
export const sorts: { value: Sort; label: string }[] = [
  { value: 'opened', label: 'Last opened' },
  { value: 'name', label: 'Name' },
  { value: 'made', label: 'Newest' },
  { value: 'order', label: 'Order in the project' },
];

/** When a shot was last opened, as text that sorts; those that never were come after all that were, in their order. */
const opened = (shot: ShotCard): string => shot.opened ?? '';
/** Of two texts that sort, the later one first. */
const later = (a: string, b: string): number => (a < b ? 1 : a > b ? -1 : 0);

const compared: Record<Sort, (a: ShotCard, b: ShotCard) => number> = {
  opened: (a, b) => later(opened(a), opened(b)),
  name: (a, b) => a.name.localeCompare(b.name, undefined, { numeric: true }),
  made: (a, b) => later(a.created, b.created),
  order: () => 0,
};

const lastOpened = (project: ProjectCard): string =>
  project.shots.reduce((last, shot) => (opened(shot) > last ? opened(shot) : last), project.created);

/** Projects, the last one opened first, with the shots that have all words of a query in their name, or in the project's. */
export function arranged(projects: readonly ProjectCard[], query: string, sort: Sort): ProjectCard[] {
  const words = query.toLowerCase().split(/\s+/).filter(Boolean);
  const has = (text: string): boolean => words.every((word) => text.toLowerCase().includes(word));
  return projects
    .map((project) => ({
      ...project,
      shots: project.shots.filter((shot) => has(`${shot.name} ${project.name}`)).sort(compared[sort]),
    }))
    .filter((project) => words.length === 0 || project.shots.length > 0 || has(project.name))
    .sort((a, b) => later(lastOpened(a), lastOpened(b)));
}

/** The shots that were opened last, of all projects. */
export function recent(projects: readonly ProjectCard[], count: number): ShotCard[] {
  return projects
    .flatMap((project) => project.shots)
    .filter((shot) => shot.opened)
    .sort(compared.opened)
    .slice(0, count);
}

export type Dropped = 'project' | 'shot' | 'cuts' | 'plate';

/** What a file that was dropped is taken for, by its name. */
export function droppedAs(name: string): Dropped {
  if (/\.zip$/i.test(name)) return 'project';
  if (/\.json$/i.test(name)) return 'shot';
  return /\.otio$/i.test(name) ? 'cuts' : 'plate';
}
