import {
  api,
  got,
  Refused,
  upload,
  type DeliveryForm,
  type Order,
  type Problem,
  type Purpose,
  type DeliveryPreview,
} from '../api/client';
import type { Desk } from '../state/desk.svelte';
import { notices } from '../state/notices.svelte';

const TOLD_AFTER_MS = 180;

/** An order that is being edited, the files that it would make, and its purpose. */
export class Ordering {
  form = $state.raw<DeliveryForm | null>(null);
  order = $state<Order | null>(null);
  preview = $state.raw<DeliveryPreview | null>(null);
  problem = $state.raw<Problem | null>(null);
  private timer: ReturnType<typeof setTimeout> | undefined;
  private asked = 0;

  constructor(readonly desk: Desk) {}

  private get own() {
    return { params: { path: { shot_id: this.desk.id } } };
  }

  /** Begin: with what was last ordered of this shot on this page, else with the first purpose. */
  async prepare(): Promise<void> {
    this.problem = null;
    try {
      this.form = await got(api.GET('/api/shots/{shot_id}/delivery-form', this.own));
      if (this.order === null) this.choose(this.form.purposes[0]!);
      else this.describe();
    } catch (error) {
      notices.trouble(error);
    }
  }

  private blank(form: DeliveryForm): Order {
    return {
      format: 'png8',
      first: form.first,
      last: form.last,
      every: 1,
      before: 0,
      after: 0,
      folder: this.order?.folder ?? form.folder,
      name: form.name,
      padding: 4,
      existing: 'version',
      scale: 1,
      over_plate: true,
      passes: [],
      compression: '',
      colour: null,
      burn: [],
      slate: false,
      sound: true,
      retime: null,
      fields: 'none',
      purpose: '',
    };
  }

  choose(purpose: Purpose): void {
    if (!this.form) return;
    const frame = this.desk.player.frame;
    const frames = purpose.frames === 'one' ? { first: frame, last: frame } : {};
    this.order = { ...this.blank(this.form), ...purpose.order, ...frames, purpose: purpose.name } as Order;
    this.describe();
  }

  set(change: Partial<Order>): void {
    if (!this.order) return;
    this.order = { ...this.order, ...change };
    this.describe();
  }

  get format() {
    return this.form?.formats.find((f) => f.name === this.order?.format) ?? null;
  }

  /** A format brings its own options, and drops those that it lacks. */
  setFormat(name: string): void {
    const format = this.form?.formats.find((f) => f.name === name);
    const order = this.order;
    if (!format || !order) return;
    this.set({
      format: name,
      ...(format.layers ? {} : { passes: [] }),
      ...(format.fields ? {} : { fields: 'none' as const }),
      ...(format.compressions.includes(order.compression ?? '') ? {} : { compression: '' }),
    });
  }

  /** Ask for the files that it would make, once editing pauses. */
  describe(): void {
    clearTimeout(this.timer);
    this.timer = setTimeout(() => void this.ask(), TOLD_AFTER_MS);
  }

  private async ask(): Promise<void> {
    const mine = ++this.asked;
    try {
      const preview = await got(
        api.POST('/api/shots/{shot_id}/order-told', { ...this.own, body: this.order! }),
      );
      if (mine !== this.asked) return;
      this.preview = preview;
      this.problem = null;
    } catch (error) {
      if (mine !== this.asked) return;
      this.preview = null;
      if (error instanceof Refused) this.problem = error.problem;
      else notices.trouble(error);
    }
  }

  /** Put it into the queue; whether it was taken. */
  async deliver(): Promise<boolean> {
    this.problem = null;
    try {
      await got(api.POST('/api/shots/{shot_id}/deliveries', { ...this.own, body: this.order! }));
      this.describe();
      return true;
    } catch (error) {
      if (error instanceof Refused) this.problem = error.problem;
      else notices.trouble(error);
      return false;
    }
  }

  /** Save the purpose under a name. */
  async keep(name: string): Promise<void> {
    if (!this.order) return;
    const order: Partial<Order> = { ...this.order };
    const frames = order.first === order.last ? 'one' : 'all';
    // What belongs to this shot and this machine alone.
    for (const own of ['first', 'last', 'folder', 'purpose'] as const) delete order[own];
    await this.kept(
      got(
        api.POST('/api/purposes', {
          body: { name, about: '', frames, order, format: 'isbjorn-purpose', version: 1 },
        }),
      ),
    );
    this.set({ purpose: name });
  }

  async take(file: File): Promise<void> {
    await this.kept(upload('POST', `/api/purposes/import?name=${encodeURIComponent(file.name)}`, file));
  }

  async drop(id: number): Promise<void> {
    await this.kept(got(api.DELETE('/api/purposes/{purpose_id}', { params: { path: { purpose_id: id } } })));
  }

  private async kept(doing: Promise<unknown>): Promise<void> {
    try {
      await doing;
      this.form = await got(api.GET('/api/shots/{shot_id}/delivery-form', this.own));
    } catch (error) {
      notices.trouble(error);
    }
  }
}
