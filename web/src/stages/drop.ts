/** Files of a drop, folders opened, each with its path relative to what was dropped. */
export async function dropped(transfer: DataTransfer): Promise<{ path: string; file: File }[]> {
  // Both lists are gone after the first wait, so both are taken now.
  const plain = fromList(transfer.files)
  const entries = [...transfer.items].map((i) => i.webkitGetAsEntry()).filter((e) => e !== null)
  if (!entries.some((e) => e.isDirectory)) return plain
  const out: { path: string; file: File }[] = []
  for (const e of entries) await walk(e, '', out)
  return out
}

/** Files of a dialog; a chosen folder gives relative paths. */
export function fromList(files: FileList): { path: string; file: File }[] {
  return [...files].map((file) => ({ path: file.webkitRelativePath || file.name, file }))
}

async function walk(entry: FileSystemEntry, folder: string, out: { path: string; file: File }[]): Promise<void> {
  if (entry.isFile) {
    const file = await new Promise<File>((ok, no) => (entry as FileSystemFileEntry).file(ok, no))
    out.push({ path: folder + file.name, file })
    return
  }
  const reader = (entry as FileSystemDirectoryEntry).createReader()
  for (;;) {
    const some = await new Promise<FileSystemEntry[]>((ok, no) => reader.readEntries(ok, no))
    if (!some.length) return
    for (const e of some) await walk(e, `${folder}${entry.name}/`, out)
  }
}
