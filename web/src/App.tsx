import { lazy, Suspense, useEffect, useState } from 'react'
import { useSession } from './people/session'
import { SignIn } from './people/SignIn'
import { StartPage } from './start/StartPage'

// The pictures bring the 3D library with them: the start page does not wait for it.
const Workspace = lazy(() => import('./frame/Workspace').then((m) => ({ default: m.Workspace })))

const fromAddress = () => Number(/^\/project\/(\d+)/.exec(location.pathname)?.[1] ?? 0)

/** The page reads its address: `/` is the list of projects, `/project/7` one of them. */
export function App() {
  const [project, setProject] = useState(fromAddress)
  useEffect(() => {
    const back = () => setProject(fromAddress())
    addEventListener('popstate', back)
    return () => removeEventListener('popstate', back)
  }, [])
  const go = (id: number) => {
    history.pushState(null, '', id ? `/project/${id}` : '/')
    setProject(id)
  }
  const { known, team, user, ask } = useSession()
  useEffect(() => void ask(), [ask])
  if (!known) return null
  if (team && !user) return <SignIn />
  if (!project) return <StartPage open={go} />
  return (
    <Suspense>
      <Workspace key={project} id={project} leave={() => go(0)} />
    </Suspense>
  )
}
