import { Button, type ButtonProps } from '@chakra-ui/react'

interface Props extends Omit<ButtonProps, 'onChange'> {
  children: string
  testId: string
  accept?: string
  multiple?: boolean
  disabled?: boolean
  /** Told of the files, of which there is at least one. The same ones may be chosen again. */
  take: (files: FileList) => void
}

/** A button that asks for files. */
export function FileButton({ children, testId, accept, multiple, disabled, take, ...look }: Props) {
  return (
    <Button variant="outline" {...look} asChild>
      <label>
        {children}
        <input
          type="file"
          accept={accept}
          multiple={multiple}
          disabled={disabled}
          hidden
          data-testid={testId}
          onChange={(e) => {
            if (e.target.files?.length) take(e.target.files)
            e.target.value = ''
          }}
        />
      </label>
    </Button>
  )
}
