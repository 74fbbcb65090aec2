import { Box, Button, Flex, Table, Text } from '@chakra-ui/react'
import { useMemo } from 'react'
import { plain } from '../words'
import { scaleOf, type Asset, type Batch } from './batches'

const WIDE = 120
const STATES: Record<string, string> = { waiting: 'waiting', unchanged: 'unchanged since' }

/** Assets with picture, coverage and density; the limits are drawn through all rows. */
export function AssetRows({ batch, rows, open }: { batch: Batch; rows: Asset[]; open: (asset: Asset) => void }) {
  const place = useMemo(
    () =>
      scaleOf(
        rows.flatMap((r) => (r.density ? [r.density] : [])),
        [batch.least, batch.greatest],
        WIDE,
      ),
    [rows, batch.least, batch.greatest],
  )
  if (!rows.length) return <Text color="faded">None of them.</Text>
  return (
    <Table.Root size="sm" bg="sheet" borderWidth="1px" borderColor="thread">
      <Table.Header>
        <Table.Row bg="sheet">
          <Table.ColumnHeader w="72px" />
          <Table.ColumnHeader>Asset</Table.ColumnHeader>
          <Table.ColumnHeader textAlign="end">Coverage</Table.ColumnHeader>
          <Table.ColumnHeader textAlign="end">px/m</Table.ColumnHeader>
          <Table.ColumnHeader>{limits(batch)}</Table.ColumnHeader>
          <Table.ColumnHeader textAlign="end">Islands</Table.ColumnHeader>
          <Table.ColumnHeader textAlign="end">Seconds</Table.ColumnHeader>
          <Table.ColumnHeader>What it came to</Table.ColumnHeader>
          <Table.ColumnHeader />
        </Table.Row>
      </Table.Header>
      <Table.Body>
        {rows.map((r) => (
          <Row key={r.id} batch={batch} row={r} place={place} open={() => open(r)} />
        ))}
      </Table.Body>
    </Table.Root>
  )
}

const limits = (b: Batch) =>
  b.least && b.greatest
    ? `${plain(b.least)} to ${plain(b.greatest)}`
    : b.least
      ? `at least ${plain(b.least)}`
      : b.greatest
        ? `at most ${plain(b.greatest)}`
        : 'compared'

interface RowProps {
  batch: Batch
  row: Asset
  place: (d: number) => number
  open: () => void
}

function Row({ batch, row: r, place, open }: RowProps) {
  const at = `/api/batches/${batch.id}/assets/${r.id}`
  const far = r.density != null && side(r.density, batch)
  return (
    <Table.Row bg="sheet" color={r.state === 'waiting' ? 'faded' : 'ink'} data-testid="asset">
      <Table.Cell>
        {r.picture && (
          <Box asChild w="56px" h="56px" border="1px solid" borderColor="thread" bg="paper">
            <img src={`${at}/picture`} loading="lazy" alt="" style={{ objectFit: 'contain' }} />
          </Box>
        )}
      </Table.Cell>
      <Table.Cell minW="180px" maxW="280px" overflowWrap="anywhere">
        {r.name}
        {STATES[r.state] && <Text color="faded">{STATES[r.state]}</Text>}
      </Table.Cell>
      <Table.Cell textAlign="end">{r.coverage == null ? '' : `${(100 * r.coverage).toFixed(1)} %`}</Table.Cell>
      <Table.Cell textAlign="end">{r.density == null ? '' : plain(r.density)}</Table.Cell>
      <Table.Cell>{r.density != null && <Dot d={r.density} batch={batch} place={place} />}</Table.Cell>
      <Table.Cell textAlign="end">{r.islands?.toLocaleString('en')}</Table.Cell>
      <Table.Cell textAlign="end">{r.seconds?.toFixed(1)}</Table.Cell>
      <Table.Cell color={r.state === 'failed' || far || (r.state !== 'waiting' && !r.ok) ? 'madder' : 'ink'}>
        {r.said}
      </Table.Cell>
      <Table.Cell>
        <Flex gap="1" justify="end">
          {r.files && (
            <Button size="xs" variant="ghost" asChild>
              <a href={`${at}/files`} download aria-label={`Files of ${r.name}`}>
                Files
              </a>
            </Button>
          )}
          {r.state !== 'waiting' && (
            <Button size="xs" variant="outline" aria-label={`Open ${r.name} as a project`} onClick={open}>
              Open
            </Button>
          )}
        </Flex>
      </Table.Cell>
    </Table.Row>
  )
}

const side = (d: number, b: Batch) =>
  b.least && d < b.least ? 'starved' : b.greatest && d > b.greatest ? 'lavish' : ''

function Dot({ d, batch: b, place }: { d: number; batch: Batch; place: (d: number) => number }) {
  const from = b.least ? place(b.least) : 0
  const to = b.greatest ? place(b.greatest) : WIDE
  return (
    <svg width={WIDE} height="24" aria-hidden>
      {(b.least || b.greatest) && (
        <rect x={from} width={Math.max(1, to - from)} height="24" fill="var(--chakra-colors-fold)" />
      )}
      <line x2={WIDE} y1="12" y2="12" stroke="var(--chakra-colors-thread)" />
      <circle cx={place(d)} cy="12" r="4" fill={`var(--chakra-colors-${side(d, b) || 'ink'})`} />
    </svg>
  )
}
