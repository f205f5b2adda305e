import { createContext, useContext } from 'react'
import type { Session } from '../api'

export const SessionContext = createContext<Session | null>(null)

// useSession is who is signed in.
export const useSession = () => useContext(SessionContext)!
