// A page that fails while it is drawn takes nothing else with it, and is forgotten once one has gone elsewhere.
import { Component, type ReactNode } from 'react'
import { texts } from '../texts'
import { Button } from './Button'
import { Notice } from './Notice'

interface Given {
  place: string // where one is
  children: ReactNode
}

export class PageBoundary extends Component<Given, { error: Error | null }> {
  override state: { error: Error | null } = { error: null }

  static getDerivedStateFromError(error: unknown) {
    return { error: error instanceof Error ? error : new Error(String(error)) }
  }

  override componentDidUpdate(before: Given) {
    if (before.place !== this.props.place && this.state.error) this.setState({ error: null })
  }

  override render() {
    const { error } = this.state
    if (!error) return this.props.children
    return (
      <Notice error={error}>
        <p>{texts().shell.broken}</p>
        <Button onPress={() => this.setState({ error: null })}>{texts().shell.again}</Button>
      </Notice>
    )
  }
}
