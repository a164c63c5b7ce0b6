import { Refused } from '../api/client';

export interface Notice {
  id: number;
  text: string;
  where: string;
  trouble: boolean;
  mend?: { label: string; act: () => void };
}

/** Short words to the user, at the foot of the screen. */
class Notices {
  list = $state<Notice[]>([]);
  private next = 1;

  say(text: string, mend?: Notice['mend']): void {
    this.push({ text, where: '', trouble: false, mend });
  }

  trouble(error: unknown): void {
    if (error instanceof Refused)
      this.push({ text: error.message, where: error.problem.where, trouble: true });
    else this.push({ text: String(error), where: '', trouble: true });
  }

  drop(id: number): void {
    this.list = this.list.filter((n) => n.id !== id);
  }

  private push(notice: Omit<Notice, 'id'>): void {
    const id = this.next++;
    this.list = [...this.list.slice(-2), { id, ...notice }];
    setTimeout(() => this.drop(id), notice.mend ? 12000 : 7000);
  }
}

export const notices = new Notices();
