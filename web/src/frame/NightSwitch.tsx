import { Box } from '@chakra-ui/react'
import { turn, useNight } from './night'

/** Day or night: a sun of stitches or a moon. */
export function NightSwitch() {
  const night = useNight()
  const line = { fill: 'none', stroke: 'currentColor', strokeWidth: 1.5, strokeLinecap: 'round' as const }
  return (
    <Box
      as="button"
      aria-pressed={night}
      aria-label="Dark theme"
      title={night ? 'By day: ink on paper' : 'By night: thread on indigo'}
      p="1"
      color="faded"
      onClick={turn}
    >
      <svg width="16" height="16" viewBox="0 0 16 16" aria-hidden>
        {night ? (
          <path d="M12.5 10.2A5.4 5.4 0 0 1 5.8 3.5a5.4 5.4 0 1 0 6.7 6.7Z" {...line} />
        ) : (
          <>
            <circle cx="8" cy="8" r="3" {...line} />
            <circle cx="8" cy="8" r="6" {...line} strokeDasharray="1.6 3.1" />
          </>
        )}
      </svg>
    </Box>
  )
}
