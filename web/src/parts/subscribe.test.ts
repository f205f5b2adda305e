import { expect, test } from 'vitest'
import { browserName, bytesOf } from './subscribe'

test('a key is read as base64url', () => {
  expect([...bytesOf('_-8')]).toEqual([255, 239])
})

test('a browser is called by what it is and what it runs on', () => {
  expect(browserName('Mozilla/5.0 (Linux; Android 16) AppleWebKit/537.36 Chrome/140.0 Mobile Safari/537.36')).toBe('Chrome, Android')
  expect(browserName('Mozilla/5.0 (Windows NT 10.0) Chrome/140.0 Safari/537.36 Edg/140.0')).toBe('Edge, Windows')
  expect(browserName('something else')).toBe('browser')
})
