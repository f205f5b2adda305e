import { afterEach, expect, it, vi } from 'vitest'
import { api, Problem, tagOf } from './api'

afterEach(() => vi.unstubAllGlobals())

const answers = (status: number, body: unknown) =>
  vi.stubGlobal(
    'fetch',
    vi.fn(() => Promise.resolve(new Response(JSON.stringify(body), { status }))),
  )

it('makes the tag that an edit carries', () => expect(tagOf({ id: 7, revision: 3 })).toBe('7-3'))

it('hands an explained error on, with what is wrong in which field', async () => {
  answers(400, { status: 400, detail: 'the site is refused', errors: [{ field: 'code', detail: 'is required' }] })
  const failed = await api.send('POST', '/sites', {}).catch((e: unknown) => e)
  expect(failed).toBeInstanceOf(Problem)
  expect(failed).toMatchObject({ status: 400, message: 'the site is refused', errors: [{ field: 'code', detail: 'is required' }] })
})

it('sends the tag of what was read, in quotes', async () => {
  answers(200, {})
  await api.send('PATCH', '/sites/KET-07', { name: 'x' }, '7-3')
  expect(fetch).toHaveBeenCalledWith(
    '/api/v1/sites/KET-07',
    expect.objectContaining({ method: 'PATCH', headers: expect.objectContaining({ 'If-Match': '"7-3"' }) as unknown }),
  )
})

it('says that the server does not answer', async () => {
  vi.stubGlobal(
    'fetch',
    vi.fn(() => Promise.reject(new TypeError('failed to fetch'))),
  )
  await expect(api.overview()).rejects.toMatchObject({ status: 0 })
})
