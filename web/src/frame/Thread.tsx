import { Box, type BoxProps } from '@chakra-ui/react'

interface Props extends Omit<BoxProps, 'part'> {
  /** From 0 to 1; null where it is not known. */
  part: number | null
  name: string
}

/** A thread that grows with what is done. */
export function Thread({ part, name, ...place }: Props) {
  return (
    <Box
      h="3px"
      w={`${100 * (part ?? 0)}%`}
      backgroundImage="repeating-linear-gradient(90deg, var(--chakra-colors-indigo) 0 8px, transparent 8px 12px)"
      transition="width 0.2s"
      role="progressbar"
      aria-label={name}
      aria-valuenow={part === null ? undefined : Math.round(100 * part)}
      {...place}
    />
  )
}
