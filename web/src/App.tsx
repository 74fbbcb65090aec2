import { useEffect, useState } from 'react'
import { StartPage } from './start/StartPage'
import { Workspace } from './frame/Workspace'

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
  return project ? <Workspace key={project} id={project} leave={() => go(0)} /> : <StartPage open={go} />
}
