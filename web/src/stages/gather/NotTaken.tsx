import { Button, List } from '@chakra-ui/react'
import { useQuilt, useParts } from '../../store'
import { Card } from '../Card'

/** Files of the last upload that could not be read, while the others joined the project: why, and the way on or back. */
export function NotTaken() {
  const { refused, job, step } = useParts('refused', 'job', 'step')
  if (!refused) return null
  const { rows, count } = refused
  const close = (stage?: 'Inspect') => useQuilt.setState({ refused: null, ...(stage && { stage }) })
  return (
    <section aria-label="Files that did not come in">
      <Card
        title={count === 1 ? 'One file did not come in' : `${count} files did not come in`}
        heavy={2}
        text="The others joined the project in one step."
      >
        <List.Root fontSize="xs" ps="4" mb="1" width="100%" maxH="200px" overflowY="auto">
          {rows.map((r) => (
            <List.Item key={r.file} overflowWrap="anywhere">
              {r.why}
            </List.Item>
          ))}
          {count > rows.length && <List.Item>and {count - rows.length} more</List.Item>}
        </List.Root>
        <Button size="xs" bg="indigo" color="sheet" onClick={() => close('Inspect')}>
          Go on with the others
        </Button>
        <Button size="xs" variant="ghost" disabled={!!job} onClick={() => void step('undo').then(() => close())}>
          Take the others back
        </Button>
      </Card>
    </section>
  )
}
