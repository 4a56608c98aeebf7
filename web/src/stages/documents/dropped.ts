// Files that were chosen or dropped, folders with all that is in them, each with its place.

export interface Named {
  file: File;
  /** With the folders that it came in. */
  name: string;
}

export function chosen(files: FileList | null): Named[] {
  return visible([...(files ?? [])].map((file) => ({ file, name: file.webkitRelativePath || file.name })));
}

/** What was dropped; it has to be asked for while the event is handled. */
export function dropped(transfer: DataTransfer): Promise<Named[]> {
  const entries = [...transfer.items]
    .map((item) => item.webkitGetAsEntry())
    .filter((entry) => entry !== null);
  return Promise.all(entries.map(below)).then((found) => visible(found.flat()));
}

async function below(entry: FileSystemEntry): Promise<Named[]> {
  if (!entry.isDirectory) {
    const file = await new Promise<File>((found, missed) =>
      (entry as FileSystemFileEntry).file(found, missed),
    );
    return [{ file, name: entry.fullPath.replace(/^\//, "") }];
  }
  const reader = (entry as FileSystemDirectoryEntry).createReader();
  const files: Named[] = [];
  // A browser gives some of them at a time.
  for (;;) {
    const some = await new Promise<FileSystemEntry[]>((found, missed) => reader.readEntries(found, missed));
    if (!some.length) return files;
    for (const one of some) files.push(...(await below(one)));
  }
}

/** Without what systems and editors keep for themselves. */
function visible(files: Named[]): Named[] {
  return files
    .filter(({ name }) => !name.split("/").some((part) => part.startsWith(".")))
    .sort((one, other) => (one.name < other.name ? -1 : 1));
}
