/** What was dropped on a page: files, and folders with all that is in them. */

export interface Dropped {
  /** What a session of it would be called: the folder's or the only file's name. */
  readonly name: string
  readonly files: readonly File[]
}

const bare = (name: string) => name.replace(/\.[^.]+$/, '')

/** The files of a drop, those of folders in the order of their names; hidden ones are left out. */
export async function droppedFiles(transfer: DataTransfer | null): Promise<Dropped> {
  const items = [...(transfer?.items ?? [])]
  // They must all be asked for before anything is waited for.
  const entries = items.flatMap((one) => one.webkitGetAsEntry() ?? [])
  if (!entries.length) return namedAfter([...(transfer?.files ?? [])])
  const files = (await Promise.all(entries.map(filesIn))).flat()
  const folder = entries.length === 1 && entries[0]?.isDirectory ? entries[0].name : ''
  return folder ? { name: folder, files } : namedAfter(files)
}

export function namedAfter(files: readonly File[]): Dropped {
  const first = files[0]
  return { name: files.length === 1 && first ? bare(first.name) : 'New session', files }
}

async function filesIn(entry: FileSystemEntry): Promise<File[]> {
  if (entry.name.startsWith('.')) return []
  if (entry.isFile)
    return [await new Promise<File>((resolve, reject) => (entry as FileSystemFileEntry).file(resolve, reject))]
  const reader = (entry as FileSystemDirectoryEntry).createReader()
  const all: FileSystemEntry[] = []
  for (;;) {
    // A browser gives a hundred at a time.
    const some = await new Promise<FileSystemEntry[]>((resolve, reject) => reader.readEntries(resolve, reject))
    if (!some.length) break
    all.push(...some)
  }
  all.sort((one, other) => one.name.localeCompare(other.name, undefined, { numeric: true }))
  return (await Promise.all(all.map(filesIn))).flat()
}
