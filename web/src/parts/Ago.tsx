import { useEffect, useState } from 'react'
import { say } from '../catalogue'
import { exact, length } from '../words'

// Ago is a relative time that stays right, with the exact one on hover.
export function Ago({ at, never = 'never' }: { at?: string; never?: string }) {
  const [now, setNow] = useState(() => Date.now())
  useEffect(() => {
    const timer = setInterval(() => setNow(Date.now()), 1000)
    return () => clearInterval(timer)
  }, [])
  if (!at) return <span>{never}</span>
  return (
    <time dateTime={at} title={exact(at)}>
      {say.ago(length(Math.max(1000, now - Date.parse(at))))}
    </time>
  )
}
