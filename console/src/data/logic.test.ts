// What the console reckons by itself, without a page.
import { describe, expect, it } from 'vitest'
import type { FileEntry, LinkFacts, Quota, Transfer } from '../api/client'
import { preferred } from '../texts'
import { de } from '../texts/de'
import { en } from '../texts/en'
import { linesOf, sentenceOf, whoText } from './access'
import { merged } from './coverage'
import { asked as askedOfHistory, exportPath, readFilters } from './history'
import { asked, EMPTY, meaning, mentions, standing } from './links'
import { readLook } from './look'
import { readGroups } from './people'
import { kindOf, rowsOf } from './preview'
import { quotaText, usedShare } from './quotas'
import { spanOf, within } from './requests'
import { changed } from './selection'
import { shown } from './shown'
import { pointsOf, rateOf } from './throughput'
import { rowsAgain, sameAgain } from './stable'
import { TransferBoard } from './transfers'
import { stateOf } from './transferState'

const NOW = new Date('2026-05-01T12:00:00Z')

describe('a text of a stranger is shown', () => {
  it('with what would hide in it, or turn it round, as an escape', () => {
    expect(shown('invoice-\u202egnp.exe')).toBe('invoice-\\u202egnp.exe')
    expect(shown('a\u200bb\u2028c\u0007')).toBe('a\\u200bb\\u2028c\\u0007')
  })
  it('as it is, where nothing is odd in it', () => {
    for (const text of ['Söd ra.pdf', 'line\nline', '👩\u200d🔬.png', 'א\u200f1'])
      expect(shown(text)).toBe(text)
  })
})

describe('a CSV text becomes rows', () => {
  it('with quotes, line ends and separators in cells', () => {
    expect(rowsOf('a,"b ""c"", d"\r\n"x\ny",\n', false)).toEqual([
      ['a', 'b "c", d'],
      ['x\ny', ''],
    ])
  })
  it('and of one that was cut, the last is left out', () => {
    expect(rowsOf('a,b\n1,2\n3', true)).toEqual([
      ['a', 'b'],
      ['1', '2'],
    ])
    expect(rowsOf('a,b\n1', false)).toEqual([['a', 'b'], ['1']])
    expect(rowsOf('', false)).toEqual([])
  })
})

describe('what a type is shown as', () => {
  it.each([
    ['image/png', 'image'],
    ['image/svg+xml', null],
    ['text/csv', 'table'],
    ['text/html', 'text'],
    ['application/json', 'text'],
    ['application/pdf', 'pdf'],
    ['application/zip', null],
    [null, null],
  ])('%s', (type, kind) => expect(kindOf(type)).toBe(kind))
})

describe('parts of a file on a strip', () => {
  it('are put together where they touch, and seen however little they are', () => {
    expect(
      merged(
        [
          [500, 501],
          [0, 100],
          [100, 200],
        ],
        1000,
        10,
      ),
    ).toEqual([
      [0, 2],
      [5, 6],
    ])
  })
  it('fill it only when all is there', () => {
    expect(merged([[0, 1_000_000]], 1_000_000, 1000)).toEqual([[0, 1000]])
    expect(merged([[0, 999_999]], 1_000_000, 1000)).toEqual([[0, 999]])
    expect(merged([], 10, 10)).toEqual([])
    expect(merged([[0, 0]], 10, 10)).toEqual([])
    expect(merged([[0, 5]], 0, 10)).toEqual([])
  })
})

describe('the filters of the history', () => {
  it('are read from the address bar, and what is none of them is not', () => {
    expect(
      readFilters({ state: 'refused', since: '2026-01-02', until: 'soon', recipient: ' ann ', x: 1 }),
    ).toEqual({
      recipient: 'ann',
      address: undefined,
      link: undefined,
      state: 'refused',
      since: '2026-01-02',
      until: undefined,
    })
    expect(readFilters({ state: 'odd', address: 7 }).state).toBeUndefined()
  })
  it('ask for whole days by the reader’s clock', () => {
    const { since = 0, until = 0 } = askedOfHistory({ since: '2026-01-02', until: '2026-01-02' })
    expect(until - since).toBe(86_400)
    expect(new Date(since * 1000).getHours()).toBe(0)
    expect(exportPath({ recipient: 'ann' }, 'csv')).toBe('/api/history?format=csv&recipient=ann')
  })
})

describe('a link that is to be made', () => {
  const form = { ...EMPTY, address: '/charts/north.pdf', uses: '3', net: '192.0.2.0/24' }
  it('is asked for as the form says', () => {
    expect(asked(form)).toEqual({
      address: 'charts/north.pdf',
      seconds: 604_800,
      uses: 3,
      net: ['192.0.2.0/24'],
    })
    expect(asked({ ...EMPTY, address: 'a/b', days: '' })).toEqual({ address: 'a/b' })
  })
  it('is a sentence in both languages', () => {
    expect(meaning({ ...form, days: '' }, NOW, en.links.meaning, 'en')).toBe(
      'Anyone with this link can save north.pdf 3 times, from the network 192.0.2.0/24, for good.',
    )
    expect(meaning({ ...form, uses: '1', days: '', net: '' }, NOW, de.links.meaning, 'de')).toBe(
      'Wer diesen Link hat, kann north.pdf einmal speichern, auf Dauer.',
    )
    expect(meaning({ ...form, days: '1' }, NOW, en.links.meaning, 'en')).toContain('until Saturday')
    expect(meaning(EMPTY, NOW, en.links.meaning)).toBeNull()
  })
  it('stands as its facts say', () => {
    const link = {
      state: 'holds',
      until: '2026-05-02T11:00:00Z',
      id: 'x@ann',
      address: 'Charts/a',
    } as LinkFacts
    expect(standing(link, NOW)).toBe('ends soon')
    expect(standing({ ...link, until: '2026-05-09T11:00:00Z' }, NOW)).toBe('good')
    expect(standing({ ...link, until: null }, NOW)).toBe('good')
    expect(standing({ ...link, state: 'used-up' }, NOW)).toBe('used up')
    expect(mentions(link, 'charts/A')).toBe(true)
    expect(mentions(link, 'bob')).toBe(false)
  })
})

describe('rules as sentences', () => {
  const rule = {
    effect: 'deny' as const,
    who: ['group:crew', 'not recipient:bob'],
    actions: ['read'],
    what: ['**'],
  }
  it('in both languages', () => {
    expect(sentenceOf(rule, en)).toBe('the group crew, except bob, may not read everything')
    expect(sentenceOf({ ...rule, effect: 'allow', who: ['anyone'] }, de)).toBe('jeder darf alles lesen')
    expect(whoText('signed-in', en)).toBe('whoever is signed in')
    expect(sentenceOf({ ...rule, actions: ['manage', 'odd', 'list'], who: ['anyone'] }, en)).toBe(
      'anyone may not list, manage, odd everything',
    )
  })
  it('with the file’s own lines', () => {
    const text = '# first\n[[rule]]\nname = "a"\n\n# of the next\n[[rule]]\nname = "b"\n'
    expect(linesOf(text, 2)).toBe('[[rule]]\nname = "a"\n\n# of the next')
    expect(linesOf(text, 6)).toBe('[[rule]]\nname = "b"')
  })
})

describe('a transfer’s state', () => {
  const of = (state: string, rate: number | null, reason: string | null = null) =>
    stateOf({ state, rate, bytes: 5, reason } as Transfer)
  it('tells waiting and paused apart from broken off', () => {
    expect(of('running', 100)).toBe('running')
    expect(of('running', 0)).toBe('waiting')
    expect(of('running', null)).toBe('running')
    expect(of('partial', null)).toBe('paused')
    expect(of('partial', null, 'x')).toBe('partial')
    expect(of('broken-off', null, 'x')).toBe('broken-off')
  })
  it('and throughput is of what runs', () => {
    expect(
      rateOf([
        { state: 'running', rate: 5 },
        { state: 'running', rate: null },
        { state: 'complete', rate: 9 },
      ]),
    ).toBe(5)
    expect(pointsOf([3, 4])).toEqual([
      { at: -1, rate: 3 },
      { at: 0, rate: 4 },
    ])
  })
})

describe('a board of transfers', () => {
  const of = (id: string, bytes = 0) => ({ id, bytes }) as Transfer
  it('tells those who show one that has changed, and no others', () => {
    const board = new TransferBoard()
    const told: string[] = []
    board.take([of('1'), of('2')], true)
    const stop = board.watch('1', () => told.push('1'))
    board.watch('2', () => told.push('2'))
    board.watchAll(() => told.push('all'))
    board.take([of('1', 5), of('3')])
    expect(told).toEqual(['1', 'all'])
    expect(board.all().map((one) => one.id)).toEqual(['3', '2', '1'])
    expect(board.get('1')?.bytes).toBe(5)
    stop()
    board.take([of('1', 6)], true)
    expect(told).toEqual(['1', 'all', 'all'])
    expect(board.get('2')).toBeUndefined()
  })
  it('keeps rows the same objects while their ids are', () => {
    const rows = rowsAgain([], ['a', 'b'])
    expect(rowsAgain(rows, ['a', 'b'])).toBe(rows)
    const more = rowsAgain(rows, ['c', 'a'])
    expect(more[1]).toBe(rows[0])
  })
  it('keeps entries the same objects while they say the same', () => {
    const entry = (address: string, size: number) => ({ address, size }) as FileEntry
    const of = (one: FileEntry) => one.address
    const before = [entry('a', 1), entry('b', 2)]
    expect(sameAgain(before, [entry('a', 1), entry('b', 2)], of)).toBe(before)
    const after = sameAgain(before, [entry('b', 2), entry('a', 7)], of)
    expect(after[0]).toBe(before[1])
    expect(after[1]).toEqual(entry('a', 7))
    expect(sameAgain(before, [entry('a', 1)], of)).toEqual([entry('a', 1)])
  })
})

describe('a selection', () => {
  it('keeps what is in other folders', () => {
    const entry = (address: string) => ({ address }) as FileEntry
    const here = [entry('a/x'), entry('a/y')]
    const before = changed(new Map(), [entry('b/z')], new Set(['b/z']))
    const both = changed(before, here, new Set(['a/x', 'b/z']))
    expect([...both.keys()]).toEqual(['b/z', 'a/x'])
    expect([...changed(both, here, new Set()).keys()]).toEqual(['b/z'])
  })
})

describe('quotas in words', () => {
  const quota: Quota = {
    rule: 'r',
    seconds: 86_400,
    files: 10,
    bytes: null,
    used_files: 2,
    used_bytes: 0,
    frees: '2026-05-05T12:00:00Z',
  }
  it('say how much is used and when the next is free', () => {
    expect(quotaText(quota, en.account, NOW)).toMatch(
      /^2 of 10 files used, each 1 d; the next is free Tuesday/,
    )
    expect(usedShare(quota)).toBe(0.2)
    expect(usedShare({ ...quota, bytes: 100, used_bytes: 400 })).toBe(1)
    expect(usedShare({ ...quota, used_files: -3 })).toBe(0)
  })
})

describe('what stands in the address bar, and the language', () => {
  it('is read and bounded', () => {
    expect(readLook({ sort: '-size', show: 'a/b', search: 'x'.repeat(300) })).toEqual({
      sort: '-size',
      show: 'a/b',
      search: 'x'.repeat(200),
    })
    expect(readLook({ sort: 'odd', show: 5 })).toEqual({
      sort: undefined,
      show: undefined,
      search: undefined,
    })
    expect(readGroups(' a, b  c,')).toEqual(['a', 'b', 'c'])
  })
  it('is the first that there are texts in', () => {
    expect(preferred([null, 'fr-FR', 'de-AT', 'en'])).toBe('de')
    expect(preferred(['fr'])).toBe('en')
  })
})

describe('texts', () => {
  it('are there in both languages, and none is the key of another', () => {
    const keys = (of: object, path = ''): string[] =>
      Object.entries(of).flatMap(([name, value]) =>
        typeof value === 'object' ? keys(value as object, `${path}${name}.`) : [path + name],
      )
    expect(keys(de)).toEqual(keys(en))
  })
})

describe('the requests of a transfer', () => {
  const told = (began: number, ended: number) => ({
    started: new Date(began).toISOString(),
    ended: new Date(ended).toISOString(),
  })
  it('lie in the time of all of them, and one that took no time is seen', () => {
    const all = spanOf([told(1000, 2000), told(3000, 3000), told(1500, 5000)])
    expect(all).toEqual({ began: 1000, ended: 5000 })
    expect(within(told(1000, 2000), all)).toEqual({ x: 0, width: 25 })
    expect(within(told(1500, 5000), all)).toEqual({ x: 12.5, width: 87.5 })
    expect(within(told(5000, 5000), all)).toEqual({ x: 99.2, width: 0.8 })
  })
  it('of which there is only one fills it', () => {
    const all = spanOf([told(7000, 7000)])
    expect(within(told(7000, 7000), all)).toEqual({ x: 0, width: 0.8 })
  })
})
