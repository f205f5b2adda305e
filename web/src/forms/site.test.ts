import { describe, expect, it } from 'vitest'
import type { Link, Service, Site, Trait } from '../api'
import { siteForms } from './site'

const site = (over: Partial<Site> = {}) =>
  ({ id: 7, revision: 3, code: 'KET-07', name: 'Kettle Pier', note: '', links: [], devices: [], ...over }) as unknown as Site
const kinds = [{ kind: 'https', options: ['path', 'status'] }, { kind: 'http', options: ['path'] }, { kind: 'tcp' }] as Trait[]
const field = (form: { blanks: { name: string }[] }, name: string) => form.blanks.find((b) => b.name === name)

describe('adding', () => {
  it('calls the first link main, the next is for the installer to name', () => {
    expect(siteForms(site(), '', kinds).link().given).toMatchObject({ label: 'main', position: 1 })
    const one = site({ links: [{ label: 'main' }] as Link[] })
    expect(siteForms(one, '', kinds).link().given).toMatchObject({ label: '', position: 2 })
  })

  it('offers the name that the template suggests, for this site', () => {
    const form = siteForms(site(), 'ket-07.isles.saltmarsh.example', kinds).hostname()
    expect(form).toMatchObject({ method: 'POST', path: '/hostnames', given: { name: 'ket-07.isles.saltmarsh.example', site: 'KET-07' } })
    expect(form.tag).toBeUndefined()
  })

  it('offers each option of the kinds once', () =>
    expect(field(siteForms(site(), '', kinds).service(), 'options')).toMatchObject({ choices: ['path', 'status'] }))
})

describe('editing', () => {
  const link = { id: 9, revision: 2, label: 'main', provider: 'Tidewater', mode: 'dynamic', position: 1, ipv4: '192.0.2.1' } as Link

  it('carries the tag of what was read', () =>
    expect(siteForms(site(), '', kinds).link(link)).toMatchObject({ method: 'PATCH', tag: '9-2' }))

  it('does not send back an address that is announced', () => {
    expect(siteForms(site(), '', kinds).link(link).given).not.toHaveProperty('ipv4')
    expect(siteForms(site(), '', kinds).link({ ...link, mode: 'static' }).given).toHaveProperty('ipv4', '192.0.2.1')
  })

  it('leaves the name of a hostname as it is', () => {
    const form = siteForms(site(), '', kinds).hostname({ id: 1, revision: 1, name: 'a.example' } as never)
    expect(field(form, 'name')).toBeUndefined()
  })

  it('goes to names that hold anything', () =>
    expect(siteForms(site(), '', kinds).service({ id: 1, revision: 1, name: 'gate / yard?' } as Service).path).toBe(
      '/sites/KET-07/services/gate%20%2F%20yard%3F',
    ))
})
