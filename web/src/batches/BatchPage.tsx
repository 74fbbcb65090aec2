import { Box, Button, Flex, Heading, Text } from '@chakra-ui/react'
import { useCallback, useEffect, useState } from 'react'
import { api, words } from '../api/client'
import { Corner } from '../frame/Corner'
import { Progress } from './Progress'
import { AssetRows } from './AssetRows'
import { isOver, SHOWN, stateOf, useAsked, type Asset, type Batch, type Shown } from './batches'

interface Props {
  id: number
  leave: () => void
  open: (project: number) => void
}

/** A batch: how far it is, and its assets, what needs somebody's eye first. */
export function BatchPage({ id, leave, open }: Props) {
  const [batch, setBatch] = useState<Batch | null>(null)
  const [show, setShow] = useState<Shown>('all')
  const [pages, setPages] = useState(1)
  const [rows, setRows] = useState<Asset[]>([])
  const [more, setMore] = useState(0)
  const [error, setError] = useState('')
  const at = { params: { path: { batch_id: id } } }

  const ask = useCallback(async () => {
    const path = { batch_id: id }
    const { data, error } = await api.GET('/api/batches/{batch_id}', { params: { path } })
    if (!data) return setError(words(error))
    const found: Asset[] = []
    let left = 0
    for (let page = 0; page < pages && (page === 0 || left > 0); page++) {
      const answer = await api.GET('/api/batches/{batch_id}/assets', {
        params: { path, query: { show, start: found.length } },
      })
      found.push(...(answer.data?.rows ?? []))
      left = answer.data?.more ?? 0
    }
    setBatch(data)
    setRows(found)
    setMore(left)
  }, [id, show, pages])
  useAsked(
    useCallback(() => void ask(), [ask]),
    batch === null || !isOver(batch),
  )
  useEffect(() => {
    document.title = batch ? `${batch.name} – Untold Quilt` : 'Untold Quilt'
  }, [batch])

  const act = async (answer: Promise<{ data?: Batch; error?: unknown }>) => {
    const { data, error } = await answer
    setError(error ? words(error) : '')
    if (data) setBatch(data)
  }
  async function openAsset(asset: Asset) {
    const { data, error } = await api.POST('/api/batches/{batch_id}/assets/{asset_id}/open', {
      params: { path: { batch_id: id, asset_id: asset.id } },
    })
    if (data) open(data.project)
    else setError(words(error))
  }
  return (
    <Box as="main" h="100%" overflowY="auto" p="8" pt="6">
      <Box maxW="1200px" mx="auto">
        <Flex align="center" gap="3" mb="4">
          <Button size="xs" variant="ghost" onClick={leave}>
            <img src="/mark.svg" width="22" alt="" />
            All projects
          </Button>
          <Heading as="h1" fontSize="lg" truncate>
            {batch?.name ?? 'A batch'}
          </Heading>
          <Corner />
        </Flex>
        {error && (
          <Text role="alert" color="madder" mb="3">
            {error}
          </Text>
        )}
        {batch && (
          <>
            <Status batch={batch} act={act} leave={leave} at={at} />
            <Flex gap="1" mb="3" role="tablist" aria-label="Which assets">
              {(Object.keys(SHOWN) as Shown[]).map((k) => {
                const n = k === 'all' ? batch.total : batch.counts[k]
                if (!n && k !== 'all' && k !== show) return null
                return (
                  <Button
                    key={k}
                    size="xs"
                    role="tab"
                    aria-selected={k === show}
                    variant={k === show ? 'outline' : 'ghost'}
                    color={k === 'failed' || k === 'outside' ? 'madder' : 'ink'}
                    onClick={() => {
                      setPages(1)
                      setShow(k)
                    }}
                  >
                    {SHOWN[k]} {n.toLocaleString('en')}
                  </Button>
                )
              })}
            </Flex>
            <AssetRows batch={batch} rows={rows} open={(a) => void openAsset(a)} />
            {more > 0 && (
              <Button size="xs" variant="outline" mt="3" onClick={() => setPages(pages + 1)}>
                Show more ({more.toLocaleString('en')} are left)
              </Button>
            )}
          </>
        )}
      </Box>
    </Box>
  )
}

interface StatusProps {
  batch: Batch
  act: (answer: Promise<{ data?: Batch; error?: unknown }>) => Promise<void>
  leave: () => void
  at: { params: { path: { batch_id: number } } }
}

/** How far it is, where the results lie, and what can be done with it as a whole. */
function Status({ batch: b, act, leave, at }: StatusProps) {
  const [sure, setSure] = useState(false)
  return (
    <Box mb="4">
      <Flex align="center" gap="2" mb="2">
        <Text role="status" flex="1" fontSize="md" color={b.state === 'failed' ? 'madder' : 'ink'}>
          {stateOf(b)}
        </Text>
        {!isOver(b) ? (
          <Button
            size="sm"
            variant="outline"
            disabled={b.stopping}
            title="What is done stays; it can go on later"
            onClick={() => void act(api.POST('/api/batches/{batch_id}/stop', at))}
          >
            Stop
          </Button>
        ) : (
          <>
            <Button
              size="sm"
              bg="indigo"
              color="sheet"
              title="Only what changed since, or is not done yet, is made"
              onClick={() => void act(api.POST('/api/batches/{batch_id}/again', at))}
            >
              {b.state === 'done' ? 'Do what changed' : 'Go on'}
            </Button>
            <Button size="sm" variant="outline" asChild>
              <a href={`/api/batches/${b.id}/summary.csv`} download>
                Table (CSV)
              </a>
            </Button>
            <Button
              size="sm"
              variant="ghost"
              color={sure ? 'madder' : 'ink'}
              onBlur={() => setSure(false)}
              onClick={() => (sure ? void api.DELETE('/api/batches/{batch_id}', at).then(leave) : setSure(true))}
            >
              {sure ? 'Delete it with its results' : 'Delete'}
            </Button>
          </>
        )}
      </Flex>
      {!isOver(b) && <Progress batch={b} />}
      <Text color="faded" mt="1">
        {b.folder ? `Library / ${b.folder.replaceAll('/', ' / ')}` : 'The whole library'}
        {b.workers > 0 && `, on ${b.workers} ${b.workers === 1 ? 'process' : 'processes'}`}
        {b.results && `; results in ${b.results}`}
      </Text>
    </Box>
  )
}
