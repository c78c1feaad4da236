import { CloseButton, Dialog, Portal } from "@chakra-ui/react";

interface Props {
  title: string;
  size?: "sm" | "md" | "lg" | "xl" | "cover";
  /** Long contents scroll within the frame. */
  scrolls?: boolean;
  footer?: React.ReactNode;
  close: () => void;
  children: React.ReactNode;
}

/** A dialog over the page: a title, contents, perhaps buttons below; Escape and the cross close it. */
export function PageDialog({ title, size = "md", scrolls, footer, close, children }: Props) {
  return (
    <Dialog.Root open onOpenChange={(change) => !change.open && close()} size={size} scrollBehavior={scrolls ? "inside" : "outside"}>
      <Portal>
        <Dialog.Backdrop />
        <Dialog.Positioner>
          <Dialog.Content {...(size === "cover" ? { maxHeight: "calc(100vh - 40px)", marginBlock: "20px" } : {})}>
            <Dialog.Header pb={2}>
              <Dialog.Title fontSize="heading">{title}</Dialog.Title>
            </Dialog.Header>
            <Dialog.Body pb={footer ? 2 : 5}>{children}</Dialog.Body>
            {footer && <Dialog.Footer>{footer}</Dialog.Footer>}
            <Dialog.CloseTrigger asChild>
              <CloseButton colorPalette="gray" size="sm" />
            </Dialog.CloseTrigger>
          </Dialog.Content>
        </Dialog.Positioner>
      </Portal>
    </Dialog.Root>
  );
}
