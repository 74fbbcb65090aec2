import { lazy, Suspense, useEffect, useState } from 'react'
import { BatchPage } from './batches/BatchPage'
import { Part } from './frame/Part'
import { useSession } from './people/session'
import { SignIn } from './people/SignIn'
import { StartPage } from './start/StartPage'

// The pictures bring the 3D library with them: the start page does not wait for it.
const Workspace = lazy(() => import('./frame/Workspace').then((m) => ({ default: m.Workspace })))

type Place = { kind: 'project' | 'batch'; id: number }

function fromAddress(): Place | null {
  const found = /^\/(project|batch)\/(\d+)/.exec(location.pathname)
  return found && { kind: found[1] as Place['kind'], id: Number(found[2]) }
}

/** The page reads its address: `/` is the list of projects, `/project/7` one of them, `/batch/7` a batch. */
export function App() {
  const [place, setPlace] = useState(fromAddress)
  useEffect(() => {
    const back = () => setPlace(fromAddress())
    addEventListener('popstate', back)
    return () => removeEventListener('popstate', back)
  }, [])
  const go = (to: Place | null) => {
    history.pushState(null, '', to ? `/${to.kind}/${to.id}` : '/')
    setPlace(to)
  }
  const { known, team, user, ask } = useSession()
  useEffect(() => void ask(), [ask])
  if (!known) return null
  if (team && !user) return <SignIn />
  const project = (id: number) => go({ kind: 'project', id })
  const name = !place ? 'the start page' : place.kind === 'batch' ? 'the batch' : 'the project'
  return (
    <Part key={place ? `${place.kind} ${place.id}` : ''} name={name}>
      {!place ? (
        <StartPage open={project} openBatch={(id) => go({ kind: 'batch', id })} />
      ) : place.kind === 'batch' ? (
        <BatchPage id={place.id} leave={() => go(null)} open={project} />
      ) : (
        <Suspense>
          <Workspace id={place.id} leave={() => go(null)} />
        </Suspense>
      )}
    </Part>
  )
}
