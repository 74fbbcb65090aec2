import { create } from 'zustand'
import { api, words } from '../api/client'

/** Whether people have to sign in here, and who did. */
interface Session {
  /** Not known yet before the first answer. */
  known: boolean
  team: boolean
  user: string | null
  ask: () => Promise<void>
  /** Signs in; gives the words of a refusal, or nothing. */
  signIn: (name: string, password: string) => Promise<string>
  signOut: () => Promise<void>
}

export const useSession = create<Session>((set) => ({
  known: false,
  team: false,
  user: null,
  async ask() {
    const { data } = await api.GET('/api/session').catch(() => ({ data: undefined }))
    // An application that does not answer is told of where it is asked for something.
    set({ known: true, ...(data && { team: data.team, user: data.user }) })
  },
  async signIn(name, password) {
    const { data, error } = await api.POST('/api/sign-in', { body: { name, password } })
    if (!data) return words(error)
    set({ user: data.user })
    return ''
  },
  async signOut() {
    await api.POST('/api/sign-out')
    set({ user: null })
  },
}))

// Whoever was signed out meanwhile, elsewhere or by time, signs in again and finds the page as it was.
addEventListener('signed-out', () => useSession.setState({ user: null }))
