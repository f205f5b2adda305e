import { createContext, useContext } from 'react'

// Gone is what was just removed: key is what it is called, kind what it is, path where it was.
export type Gone = { key: string; kind: string; path: string }

// Undo offers to bring it back.
export type Undo = (of: Gone) => void

export const UndoContext = createContext<Undo>(() => {})

export const useUndo = () => useContext(UndoContext)
