import { marked } from 'marked';

/** A page of the handbook: its name, title, Markdown text, and whether it is a recipe. */
export interface Page {
  name: string;
  title: string;
  text: string;
  recipe: boolean;
}

const texts = import.meta.glob<string>('../../../docs/handbook/**/*.md', {
  query: '?raw',
  import: 'default',
  eager: true,
});
const pictures = import.meta.glob<string>('../../../docs/handbook/pictures/*.png', {
  query: '?url',
  import: 'default',
  eager: true,
});

const fileName = (path: string): string => path.slice(path.lastIndexOf('/') + 1);
const addresses = new Map(Object.entries(pictures).map(([path, url]) => [fileName(path), url]));

/** All pages in the order of their file names: guides first, then recipes. */
export const pages: Page[] = Object.entries(texts)
  .map(([path, text]) => ({
    name: fileName(path).replace('.md', ''),
    title: /^# (.+)$/m.exec(text)?.[1] ?? fileName(path),
    text,
    recipe: path.includes('/recipes/'),
  }))
  .sort((a, b) => Number(a.recipe) - Number(b.recipe) || a.name.localeCompare(b.name));

/** Pages that contain every word of a search; those with a word in the title come first. */
export function search(words: string): Page[] {
  const wanted = words.toLowerCase().split(/\s+/).filter(Boolean);
  const inTitle = (page: Page): boolean => wanted.some((word) => page.title.toLowerCase().includes(word));
  return pages
    .filter((page) => wanted.every((word) => page.text.toLowerCase().includes(word)))
    .sort((a, b) => Number(inTitle(b)) - Number(inTitle(a)));
}

/** A page as HTML. Its pictures come from the built page; links to other documents become plain text. */
export function html(page: Page): string {
  const renderer = new marked.Renderer();
  renderer.image = ({ href, text }) => `<img src="${addresses.get(fileName(href)) ?? ''}" alt="${text}">`;
  renderer.link = ({ text }) => text;
  return marked.parse(page.text, { renderer, async: false });
}
