import { Box, Flex, Text } from '@chakra-ui/react'
import { formatOf, useFormats } from '../../api/formats'
import { fromList } from '../drop'
import { sizeOf, unitNames, type File } from '../../scene/units'
import { FileButton } from '../../frame/FileButton'
import { useParts } from '../../store'
import { Choice } from '../parts'

/** A file that came: how large it is in its unit, what was told of it, and a newer version to take its place. */
export function FileRow({ file: f }: { file: File }) {
  const { job, compareNewer, start } = useParts('job', 'compareNewer', 'start')
  const says = formatOf(useFormats(), f.name)?.says_unit ?? true
  const units = unitNames(says)
  const known = units.some(([metres]) => Number(metres) === f.unit_m)
  return (
    <Box py="1" borderBottom="1px dashed" borderColor="thread">
      <Flex justify="space-between" align="center" gap="2">
        <Text fontWeight="600" truncate>
          {f.name}
        </Text>
        <FileButton
          size="2xs"
          variant="ghost"
          testId={`replace-${f.name}`}
          multiple
          disabled={!!job}
          title="Compare it with a newer version, and take that over"
          take={(files) => void compareNewer(f.id, fromList(files))}
        >
          Replace
        </FileButton>
      </Flex>
      <Flex
        justify="space-between"
        align="center"
        gap="2"
        title="Another unit changes densities, which are per metre; layouts stay"
      >
        <Text color="faded" fontSize="xs" truncate>
          {sizeOf(f)}
        </Text>
        <Choice
          label={`Unit of ${f.name}`}
          value={String(f.unit_m)}
          options={known ? units : [...units, [String(f.unit_m), `× ${f.unit_m}`] as const]}
          disabled={!!job}
          set={(u) => void start('units', { units: { [f.id]: Number(u) } })}
        />
      </Flex>
      {f.warnings.map((w) => (
        <Text key={w} color="faded" fontSize="xs">
          {w}
        </Text>
      ))}
    </Box>
  )
}
