import { at, type Person } from '../api'
import { say } from '../catalogue'
import type { Form } from '../parts/Part'
import { fieldOf, titles } from './fields'

const [ofPerson, ofKey] = [fieldOf('person'), fieldOf('key')]
const roles = ['owner', 'technician', 'viewer']

export const newPerson: Form = {
  title: say.people.add,
  path: '/invitations',
  method: 'POST',
  blanks: [ofPerson('name'), ofPerson('role', { choices: roles }), ofPerson('tags', { kind: 'list' })],
  given: { name: '', role: 'technician', tags: [] },
}

export const editPerson = (p: Person): Form => ({
  title: titles.edit(p.name),
  path: at('people', p.name),
  method: 'PATCH',
  blanks: [ofPerson('role', { choices: roles }), ofPerson('tags', { kind: 'list' })],
  given: { role: p.role, tags: p.tags },
})

export const newKey = (may: string): Form => ({
  title: say.account.addKey,
  path: '/keys',
  method: 'POST',
  blanks: [ofKey('label'), ofKey('may', { choices: may === 'read' ? ['read'] : ['read', 'probe', 'edit'] })],
  given: { label: '', may },
})
