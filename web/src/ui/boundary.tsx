import { Component, type ReactNode } from 'react'

import { Button, PageHead, Problem } from './parts'

/** Keeps a page that fails from taking the whole console with it. */
export class Boundary extends Component<{ children: ReactNode }, { error?: Error }> {
  override state: { error?: Error } = {}

  static getDerivedStateFromError(error: Error) {
    return { error }
  }

  override render() {
    if (!this.state.error) return this.props.children
    return (
      <>
        <PageHead title="This page failed">
          <Button onClick={() => this.setState({ error: undefined })}>Try again</Button>
        </PageHead>
        <Problem error={this.state.error} />
      </>
    )
  }
}
