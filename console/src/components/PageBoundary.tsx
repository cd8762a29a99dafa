// A page that fails while it is drawn takes nothing else with it.
import { Component, type ReactNode } from 'react'
import { texts } from '../texts'
import { Button } from './Button'
import { Notice } from './Notice'

export class PageBoundary extends Component<{ children: ReactNode }, { error: Error | null }> {
  override state: { error: Error | null } = { error: null }

  static getDerivedStateFromError(error: unknown) {
    return { error: error instanceof Error ? error : new Error(String(error)) }
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
