// The rules in force, each as a sentence and with its line in the file.
import styled from 'styled-components'
import type { Rule } from '../../api/client'
import { Aside, Quiet } from '../../components/Card'
import { timeText } from '../../components/format'
import { Notice } from '../../components/Notice'
import { linesOf, sentenceOf, useRules, useRulesFile } from '../../data/access'
import { useTexts } from '../../texts'
import { token } from '../../theme'

const List = styled.ol`
  margin: 0;
  padding: 0;
  list-style: none;
  li {
    display: grid;
    grid-template-columns: 1.4rem minmax(0, 1fr) auto;
    gap: 0.2rem 0.8rem;
    padding: 0.6rem 0.8rem;
    border: 1px solid ${token.line};
    border-bottom-width: 0;
    background: ${token.surface};
    overflow-wrap: anywhere;
  }
  summary {
    color: ${token.accent};
    font-size: ${token.type.small};
    cursor: pointer;
  }
  pre {
    margin: 0.3rem 0 0;
    overflow: auto;
    font-size: ${token.type.small};
  }
  li:last-child {
    border-bottom-width: 1px;
  }
`

const Mark = styled.span<{ $good: boolean }>`
  color: ${(props) => (props.$good ? token.good : token.bad)};
  font-weight: 700;
`

export function RulesList() {
  const said = useTexts().access
  const { data, error } = useRules()
  const file = useRulesFile().data
  return (
    <>
      {error && <Notice error={error} />}
      {data && <Quiet>{said.inForceSince(timeText(data.since))}</Quiet>}
      <RuleSentences rules={data?.rules ?? []} text={data?.fault === null ? (file?.text ?? '') : ''} />
    </>
  )
}

/** Rules as sentences; `text` is the file that they are from, where it is still what is in force. */
function RuleSentences({ rules, text }: { rules: readonly Rule[]; text: string }) {
  const texts = useTexts()
  return (
    <List>
      {rules.map((rule) => (
        <li key={rule.line}>
          <Mark $good={rule.effect === 'allow'} aria-hidden="true">
            {rule.effect === 'allow' ? '✓' : '✗'}
          </Mark>
          <span>
            {sentenceOf(rule, texts)}
            <Aside>{rule.name}</Aside>
            {text && (
              <details>
                <summary>{texts.access.ownLines}</summary>
                <pre>{linesOf(text, rule.line)}</pre>
              </details>
            )}
          </span>
          <Aside>{texts.access.line(rule.line)}</Aside>
        </li>
      ))}
    </List>
  )
}
