import { Box } from '@chakra-ui/react'
import { useState, type ReactNode } from 'react'

/** A part of a worksheet that opens and closes, and stays as it was left. */
export function Section({ name, usual = false, children }: { name: string; usual?: boolean; children: ReactNode }) {
  const key = `section ${name}`
  const [open, setOpen] = useState(() => (localStorage.getItem(key) ?? String(usual)) === 'true')
  return (
    <Box mt="2" pt="2" borderTop="1px dashed" borderColor="thread">
      <Box
        as="button"
        display="block"
        w="100%"
        textAlign="left"
        fontWeight="600"
        aria-expanded={open}
        onClick={() => {
          localStorage.setItem(key, String(!open))
          setOpen(!open)
        }}
      >
        {open ? '▾' : '▸'} {name}
      </Box>
      {open && <Box pt="2">{children}</Box>}
    </Box>
  )
}
