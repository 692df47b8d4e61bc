/** Folders as a tree. Pure. */

export interface Folder {
  /** From the top: "billing/monthly". */
  path: string;
  name: string;
  /** Extracts in it and below it. */
  extracts: number;
  folders: Folder[];
}

/** The tree of the folders that these extracts lie in, each level by name; those that only hold folders are in it. */
export function foldersOf(paths: Iterable<string>): Folder[] {
  const top: Folder = { path: "", name: "", extracts: 0, folders: [] };
  const known = new Map([["", top]]);
  const at = (path: string): Folder => {
    const found = known.get(path);
    if (found) return found;
    const cut = path.lastIndexOf("/");
    const made = { path, name: path.slice(cut + 1), extracts: 0, folders: [] };
    known.set(path, made);
    at(path.slice(0, Math.max(cut, 0))).folders.push(made);
    return made;
  };
  for (const path of paths) {
    if (!path) continue;
    const parts = path.split("/");
    at(path);
    parts.forEach((_, n) => (known.get(parts.slice(0, n + 1).join("/"))!.extracts += 1));
  }
  const order = (folder: Folder) => {
    folder.folders.sort((a, b) => (a.name < b.name ? -1 : 1));
    folder.folders.forEach(order);
  };
  order(top);
  return top.folders;
}

/** Whether something in `folder` lies in `chosen` or below it; "" is all of them. */
export const isBelow = (folder: string, chosen: string): boolean =>
  !chosen || folder === chosen || folder.startsWith(`${chosen}/`);

/** Those above it: "a", "a/b" of "a/b/c". */
export const above = (path: string): string[] =>
  path
    .split("/")
    .slice(0, -1)
    .map((_, n, parts) => parts.slice(0, n + 1).join("/"));

/** Every folder once, parents before what lies in them. */
export const flat = (folders: Folder[]): Folder[] => folders.flatMap((f) => [f, ...flat(f.folders)]);
