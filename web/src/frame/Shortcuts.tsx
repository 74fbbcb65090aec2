import { Button, CloseButton, Dialog, Grid, Kbd, Portal, Text } from '@chakra-ui/react'
import { Fragment, useEffect, useState } from 'react'

const KEYS: [keys: string, does: string][] = [
  ['Ctrl Z', 'undo'],
  ['Ctrl Shift Z', 'redo'],
  ['Ctrl A', 'select all objects'],
  ['Esc', 'select nothing'],
  ['F', 'show everything'],
  ['S', 'show the selection, in both pictures'],
  ['V, Shift V', 'table over model, side by side, table or model alone'],
  ['L, W, T', 'fold the ledger, the worksheet, the tries'],
  ['G', 'rulers in px along the table'],
  ['N, Shift N', 'next fault, the one before'],
  ['P', 'pick objects or islands'],
  ['E', 'pick edges, faces or points, then the brush'],
  ['Drag a picked point', 'move the picked points on the table; Ctrl: without snapping'],
  ['B, then R', 'pick the border of what picked points lie on; ease what is picked'],
  ['Shift wheel, Alt wheel', 'size and strength of the brush'],
  ['Double click on the model', 'edges: the whole loop; faces: all that hang together with it'],
  ['Shift click on the model', 'edges: the shortest way from the last one'],
  ['1 to 7', 'go to a stage'],
  ['Ctrl click', 'add to the selection or take out of it'],
  ['Shift drag', 'select by a box on the table'],
  ['Shift Alt drag', 'select by a line drawn around'],
  ['Drag', 'move the selection on the table; Ctrl: without snapping'],
  ['Type while dragging', '12: so many px along the way; 12, -5: along u and v; Enter, or let go; Esc: as it was'],
  ['Alt click', 'select what lies under it'],
  ['Alt drag', 'turn the selection in steps of 15°; Ctrl: freely'],
  ['→ ← ↑ ↓', 'nudge the selection by 1 px, with Shift by 10 px'],
  ['R, Shift R', 'turn the selection by 90°, left or right'],
  ['Double click', 'show a line of the ledger in the pictures'],
  ['→ ← in the ledger', 'open and close an object'],
  ['?', 'this sheet'],
]

/** One sheet of all keys. */
export function Shortcuts() {
  const [open, setOpen] = useState(false)
  useEffect(() => {
    const press = (e: KeyboardEvent) => {
      const typing = e.target instanceof HTMLInputElement || e.target instanceof HTMLSelectElement
      if (e.key === '?' && !typing) setOpen(true)
    }
    addEventListener('keydown', press)
    return () => removeEventListener('keydown', press)
  }, [])
  return (
    <Dialog.Root open={open} onOpenChange={(e) => setOpen(e.open)} size="sm">
      <Dialog.Trigger asChild>
        <Button size="xs" variant="ghost" aria-label="Shortcuts" title="Shortcuts (?)">
          ?
        </Button>
      </Dialog.Trigger>
      <Portal>
        <Dialog.Backdrop bg="blackAlpha.500" />
        <Dialog.Positioner>
          <Dialog.Content bg="sheet" color="ink">
            <Dialog.Header>
              <Dialog.Title>Keys</Dialog.Title>
            </Dialog.Header>
            <Dialog.Body>
              <Grid templateColumns="auto 1fr" gap="2" columnGap="4" alignItems="center">
                {KEYS.map(([keys, does]) => (
                  <Fragment key={keys}>
                    <Kbd bg="fold" color="ink" borderColor="thread">
                      {keys}
                    </Kbd>
                    <Text>{does}</Text>
                  </Fragment>
                ))}
              </Grid>
            </Dialog.Body>
            <Dialog.CloseTrigger asChild>
              <CloseButton size="sm" color="ink" />
            </Dialog.CloseTrigger>
          </Dialog.Content>
        </Dialog.Positioner>
      </Portal>
    </Dialog.Root>
  )
}
