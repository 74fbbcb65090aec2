import { Button, Flex, Text } from '@chakra-ui/react'
import { Component, Fragment, type ErrorInfo, type ReactNode } from 'react'

interface Props {
  /** What it is, as in "the table". */
  name: string
  children: ReactNode
}

/** A part of the page. Where it breaks it says so and offers to be loaded again; the rest works on. */
export class Part extends Component<Props, { broken: string; tries: number }> {
  state = { broken: '', tries: 0 }

  static getDerivedStateFromError(error: unknown) {
    return { broken: error instanceof Error ? error.message : String(error) }
  }

  componentDidCatch(error: unknown, info: ErrorInfo) {
    console.error(`${this.props.name} broke`, error, info.componentStack)
  }

  render() {
    const { broken, tries } = this.state
    // Another key: what it held goes with it.
    if (!broken) return <Fragment key={tries}>{this.props.children}</Fragment>
    return (
      <Flex role="alert" direction="column" align="start" gap="2" p="4" h="100%" bg="sheet" overflow="auto">
        <Text fontWeight="600">Something went wrong in {this.props.name}.</Text>
        <Text color="faded" fontSize="xs" overflowWrap="anywhere">
          {broken.slice(0, 300)}
        </Text>
        <Text>Your work is saved. The rest of the page still works.</Text>
        <Button size="sm" onClick={() => this.setState({ broken: '', tries: tries + 1 })}>
          Load it again
        </Button>
      </Flex>
    )
  }
}
