/** Where in the application we are: the page of projects, a shot, the stage, or the desk of faders. */
class Place {
  path = $state(location.pathname);

  constructor() {
    addEventListener('popstate', () => (this.path = location.pathname));
  }

  get shot(): number | null {
    const hit = /^\/shots\/(\d+)$/.exec(this.path);
    return hit ? Number(hit[1]) : null;
  }

  get stage(): number | null {
    const hit = /^\/stage\/(\d+)$/.exec(this.path);
    return hit ? Number(hit[1]) : null;
  }

  get faders(): boolean {
    return this.path === '/faders';
  }

  go(path: string): void {
    history.pushState(null, '', path);
    this.path = path;
  }
}

export const place = new Place();
