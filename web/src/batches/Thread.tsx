import { Box } from '@chakra-ui/react'

/** A thread that grows with what is done. */
export function Thread({ part, name }: { part: number; name: string }) {
  return (
    <Box h="3px" bg="fold" role="progressbar" aria-label={name} aria-valuenow={Math.round(100 * part)}>
      <Box
        h="100%"
        w={`${100 * part}%`}
        backgroundImage="repeating-linear-gradient(90deg, var(--chakra-colors-indigo) 0 8px, transparent 8px 12px)"
        transition="width 0.3s"
      />
    </Box>
  )
}
