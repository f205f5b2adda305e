import { at, tagOf, type Contact } from '../api'
import { fieldOf, titles } from './fields'
import type { Form } from '../parts/Part'

const ofContact = fieldOf('contact')

// contactForm says what is filled in for a contact of a site.
export function contactForm(base: string, c?: Contact): Form {
  const blanks = [
    ofContact('role', { choices: ['customer', 'provider', 'key holder', 'other'] }),
    ofContact('name'),
    ofContact('phone'),
    ofContact('mail'),
    ofContact('note'),
  ]
  const given = { role: c?.role ?? 'customer', name: c?.name ?? '', phone: c?.phone ?? '', mail: c?.mail ?? '', note: c?.note ?? '' }
  return c
    ? { title: titles.edit(c.name), path: base + at('contacts', String(c.id)), method: 'PATCH', blanks, given, tag: tagOf(c) }
    : { title: titles.addContact, path: `${base}/contacts`, method: 'POST', blanks, given }
}
