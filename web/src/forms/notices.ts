import { at, type Addressee, type NoticeRule } from '../api'
import type { Form } from '../parts/Part'
import { say } from '../catalogue'
import type { Blank } from './blank'
import { fieldOf, titles } from './fields'

const [ofRule, ofAddressee, ofHook, ofWork] = [fieldOf('rule'), fieldOf('addressee'), fieldOf('hook'), fieldOf('work')]

// newRule is the form of a rule, for those who can be told.
export function newRule(people: string[], hooks: string[]): Form {
  const blanks: Blank[] = [
    ofRule('person', { choices: ['', ...people] }),
    ...(hooks.length > 0 ? [ofRule('hook', { choices: ['', ...hooks] })] : []),
    ofRule('ways', { kind: 'list', seldom: true }),
    ofRule('topic', { choices: ['faults', 'moves', 'daily', 'weekly'] }),
    ofRule('serious', { kind: 'yes' }),
    ofRule('site'),
    ofRule('tag'),
    ofRule('provider'),
    ofRule('causes', { kind: 'list', seldom: true }),
    ofRule('after_minutes', { kind: 'number', seldom: true }),
    ofRule('again_minutes', { kind: 'number', seldom: true }),
    ofRule('gather_minutes', { kind: 'number', seldom: true }),
    ofRule('hours', { kind: 'pairs', choices: ['from', 'until', 'zone'], seldom: true }),
    ofRule('subject', { seldom: true }),
  ]
  const given = {
    person: '',
    hook: '',
    ways: [],
    topic: 'faults',
    serious: false,
    site: '',
    tag: '',
    provider: '',
    causes: [],
    after_minutes: 0,
    again_minutes: 0,
    gather_minutes: 0,
    hours: {},
    subject: '',
  }
  return { title: say.notices.addRule, path: '/notice-rules', method: 'POST', blanks, given }
}

// addressForm says where notices to a person go.
export const addressForm = (a: Addressee): Form => ({
  title: titles.edit(a.name),
  path: at('addressees', a.name),
  method: 'PUT',
  blanks: [ofAddressee('mail'), ofAddressee('zone')],
  given: { mail: a.mail, zone: a.zone },
})

export const newHook: Form = {
  title: say.notices.addHook,
  path: '/hooks',
  method: 'POST',
  blanks: [ofHook('name'), ofHook('url')],
  given: { name: '', url: '' },
}

// ruleWords say what a rule is about.
export function ruleWords(r: NoticeRule): string {
  const words = say.notices
  const where = [r.site, r.tag && words.tag(r.tag), r.provider && words.provider(r.provider)].filter(Boolean)
  const hours = r.hours
  const digest = r.topic === 'daily' || r.topic === 'weekly'
  return [
    words.of[r.topic ?? ''],
    where.length > 0 ? where.join(', ') : words.everywhere,
    r.serious && words.serious,
    r.causes?.join(', '),
    hours?.days?.join(' '),
    digest && words.at(hours?.from || '07:00'),
    !digest && (hours?.from || hours?.until) && words.between(hours?.from ?? '', hours?.until ?? ''),
    hours?.zone,
    r.after_minutes && words.after(r.after_minutes),
    r.again_minutes && words.repeat(r.again_minutes),
    r.gather_minutes && words.gather(r.gather_minutes),
  ]
    .filter(Boolean)
    .join(', ')
}

// ruleName names a rule, for who removes it.
export const ruleName = (r: NoticeRule) => `${r.person || r.hook}: ${ruleWords(r)}`

// newWork plans work: faults of some sites are not told meanwhile.
export const newWork: Form = {
  title: say.notices.addWork,
  path: '/planned-work',
  method: 'POST',
  blanks: [
    ofWork('site'),
    ofWork('tag'),
    ofWork('provider'),
    ofWork('starts', { kind: 'time' }),
    ofWork('minutes', { kind: 'number' }),
    ofWork('reason'),
    ofWork('repeats', { choices: ['', 'daily', 'weekly', 'monthly'], none: say.notices.once, seldom: true }),
    ofWork('last', { kind: 'time', seldom: true }),
    ofWork('zone', { seldom: true }),
  ],
  given: { site: '', tag: '', provider: '', starts: '', minutes: 60, reason: '', repeats: '', last: '', zone: '' },
}
