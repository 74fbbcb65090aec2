/** Gives a text that was made in the page as a file. */
export function give(name: string, text: string, type: string) {
  const href = URL.createObjectURL(new Blob([text], { type }))
  Object.assign(document.createElement('a'), { href, download: name }).click()
  URL.revokeObjectURL(href)
}
