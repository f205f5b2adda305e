import { Fragment } from 'react'

// Dotted is a name or an address that breaks behind a dot where it does not fit on a line.
export function Dotted({ text }: { text: string }) {
  const parts = text.split('.')
  return (
    <>
      {parts.map((p, i) => (
        <Fragment key={i}>
          {p}
          {i < parts.length - 1 && (
            <>
              .<wbr />
            </>
          )}
        </Fragment>
      ))}
    </>
  )
}
