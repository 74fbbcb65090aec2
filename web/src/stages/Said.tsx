import { Text } from '@chakra-ui/react'

const TONES: Record<string, string> = { fit: 'moss', 'fit with faults': 'weld', 'not fit': 'madder' }

/** The colour of a verdict. */
export function toneOf(grade = 'fit'): string {
  return TONES[grade] ?? 'ink'
}

/** The verdict on a layout: its line, and beside it every reason. */
export function Said({ line, grade, reasons }: { line: string; grade: string; reasons: string[] }) {
  return (
    <>
      <Text fontWeight="600" color={toneOf(grade)} data-testid="verdict">
        {line}
      </Text>
      {reasons.map((r) => (
        <Text key={r}>{r}</Text>
      ))}
    </>
  )
}
