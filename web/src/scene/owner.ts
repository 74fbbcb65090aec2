interface Disposable {
  dispose(): void
}

/** What a view has on the graphics card, in groups: a group that is released is disposed of, and so is everything with the view. */
export class Owner {
  private readonly groups = new Map<string, Disposable[]>()

  /** Take a thing over; it lives as long as its group. */
  own<T extends Disposable>(group: string, thing: T): T {
    const found = this.groups.get(group)
    if (found) found.push(thing)
    else this.groups.set(group, [thing])
    return thing
  }

  /** Dispose of a group, or of all. */
  release(group?: string): void {
    for (const name of group === undefined ? [...this.groups.keys()] : [group]) {
      for (const thing of this.groups.get(name) ?? []) thing.dispose()
      this.groups.delete(name)
    }
  }
}
