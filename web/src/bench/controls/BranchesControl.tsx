import { Box, Button, Flex, IconButton, NativeSelect, Text } from "@chakra-ui/react";
import { Plus, Trash2 } from "lucide-react";
import { useState } from "react";
import type { Branch, PipelineStep, StepFacts } from "../../api/client";
import { NumberField } from "../../shell/NumberField";
import { newStep } from "../../state/draft";
import { matters, sayName, sayStep } from "../../words/steps";
import { Control } from "./Control";

interface Props {
  value: Branch[];
  catalogue: StepFacts[];
  change: (value: Branch[]) => void;
}

/** The branches of a junction: how often each is taken, and its steps, each of which opens for changing. */
export function BranchesControl({ value, catalogue, change }: Props) {
  const [open, setOpen] = useState("");
  const whole = value.reduce((sum, branch) => sum + branch.weight, 0);
  const put = (place: number, branch: Partial<Branch>) =>
    change(value.map((old, other) => (other === place ? { ...old, ...branch } : old)));
  return (
    <Flex direction="column" gap={3}>
      {value.map((branch, place) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: a branch has no name but its place
        <Box key={place} borderLeftWidth="2px" borderColor="fg.muted" pl={3} role="group" aria-label={`Branch ${place + 1}`}>
          <Flex align="center" gap={2}>
            <Text fontWeight={550} flex="1">
              {Math.round((branch.weight / whole) * 100)} % of the time
            </Text>
            <Text fontSize="small" color="fg.muted">
              weight
            </Text>
            <NumberField
              label={`weight of branch ${place + 1}`}
              value={branch.weight}
              low={0.001}
              high={1000}
              width="60px"
              change={(weight) => weight !== null && put(place, { weight })}
            />
            {value.length > 1 && (
              <IconButton
                size="xs"
                variant="ghost"
                aria-label={`Remove branch ${place + 1}`}
                onClick={() => change(value.filter((_, other) => other !== place))}
              >
                <Trash2 size={13} />
              </IconButton>
            )}
          </Flex>
          {branch.steps.length === 0 && (
            <Text fontSize="small" color="fg.muted" my={1}>
              straight through
            </Text>
          )}
          {branch.steps.map((step) => {
            const facts = catalogue.find((each) => each.step === step.step);
            const steps = (next: PipelineStep[]) => put(place, { steps: next });
            return (
              <Box key={step.id} my={1.5}>
                <Flex align="center" gap={1}>
                  <Button
                    size="xs"
                    variant="ghost"
                    flex="1"
                    minWidth={0}
                    px={1}
                    justifyContent="flex-start"
                    aria-expanded={open === step.id}
                    onClick={() => setOpen(open === step.id ? "" : step.id)}
                  >
                    <Text fontWeight={600}>{sayName(step.step)}</Text>
                    <Text color="fg.muted" fontWeight={400} truncate>
                      {sayStep(step, facts)}
                    </Text>
                  </Button>
                  <IconButton
                    size="xs"
                    variant="ghost"
                    aria-label={`Remove ${sayName(step.step)}`}
                    onClick={() => steps(branch.steps.filter((other) => other.id !== step.id))}
                  >
                    <Trash2 size={13} />
                  </IconButton>
                </Flex>
                {open === step.id && (
                  <Flex direction="column" gap={4} pl={1} py={2}>
                    {facts?.parameters
                      .filter((parameter) => parameter.name !== "scope" && matters(parameter, step))
                      .map((parameter) => (
                        <Control
                          key={parameter.name}
                          parameter={parameter}
                          catalogue={catalogue}
                          value={step[parameter.name]}
                          change={(next) =>
                            steps(
                              branch.steps.map((other) =>
                                other.id === step.id ? ({ ...other, [parameter.name]: next } as PipelineStep) : other,
                              ),
                            )
                          }
                        />
                      ))}
                  </Flex>
                )}
              </Box>
            );
          })}
          <NativeSelect.Root size="xs" width="150px">
            <NativeSelect.Field
              aria-label={`Add a step to branch ${place + 1}`}
              value=""
              onChange={(event) => {
                const facts = catalogue.find((each) => each.step === event.target.value);
                if (!facts) return;
                const step = newStep(facts);
                put(place, { steps: [...branch.steps, step] });
                setOpen(step.id);
              }}
            >
              <option value="">add a step …</option>
              {catalogue
                .filter((facts) => !["normalize", "junction"].includes(facts.step))
                .map((facts) => (
                  <option key={facts.step} value={facts.step}>
                    {sayName(facts.step)}
                  </option>
                ))}
            </NativeSelect.Field>
            <NativeSelect.Indicator />
          </NativeSelect.Root>
        </Box>
      ))}
      <Button
        size="xs"
        variant="outline"
        alignSelf="flex-start"
        disabled={value.length >= 16}
        onClick={() => change([...value, { weight: 1, steps: [] }])}
      >
        <Plus size={13} /> Branch
      </Button>
    </Flex>
  );
}
