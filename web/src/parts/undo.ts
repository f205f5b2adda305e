import { createContext, useContext } from 'react'

// Undo offers to bring back what was just removed: key is what it is called, kind what it is.
export type Undo = (key: string, kind: string) => void

export const UndoContext = createContext<Undo>(() => {})

export const useUndo = () => useContext(UndoContext)
