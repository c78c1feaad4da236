import { Box, Button, Flex, Text } from "@chakra-ui/react";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { CornerLeftUp, Folder, FolderOpen } from "lucide-react";
import { useState } from "react";
import { askFolders } from "../api/queries";
import { PageDialog } from "../shell/Dialog";
import { ErrorBox } from "../shell/PageState";

/** Folders and zips on the server's machine, below those it allows. */
export function FolderPicker({ choose, close }: { choose: (path: string) => void; close: () => void }) {
  const [path, setPath] = useState("");
  const found = useQuery({
    ...askFolders(path),
    placeholderData: keepPreviousData,
  });
  const isZip = (name: string) => /\.(zip|tar|tgz|tbz2|txz|tar\.(gz|bz2|xz))$/i.test(name);
  return (
    <PageDialog
      title="A folder on the server"
      scrolls
      close={close}
      footer={
        <Button size="sm" colorPalette="amber" disabled={!path} onClick={() => choose(path)}>
          Use this folder
        </Button>
      }
    >
      <Text fontSize="small" color="fg.muted" mb={2} overflowWrap="anywhere">
        {found.data?.path || "The folders datasets may be brought in from:"}
      </Text>
      {found.error && <ErrorBox error={found.error} />}
      <Box as="ul" aria-label="Folders" listStyleType="none" minHeight="220px">
        {found.data && found.data.above !== null && (
          <li>
            <Line icon={<CornerLeftUp size={14} />} name="parent folder" open={() => setPath(found.data.above ?? "")} />
          </li>
        )}
        {found.data?.folders.map((folder) => (
          <li key={folder.path}>
            <Line
              icon={folder.dataset ? <FolderOpen size={14} /> : <Folder size={14} />}
              name={folder.name}
              note={folder.dataset ? "looks like a dataset" : ""}
              open={() => (isZip(folder.name) ? choose(folder.path) : setPath(folder.path))}
              {...(folder.dataset ? { take: () => choose(folder.path) } : {})}
            />
          </li>
        ))}
        {found.data?.folders.length === 0 && <Text color="fg.muted">There is no folder in it.</Text>}
      </Box>
    </PageDialog>
  );
}

function Line(props: { icon: React.ReactNode; name: string; note?: string; open: () => void; take?: () => void }) {
  return (
    <Flex align="center" gap={2} py="1px">
      <Button size="xs" variant="ghost" justifyContent="flex-start" flex="1" minWidth={0} onClick={props.open}>
        {props.icon}
        <Text truncate>{props.name}</Text>
        <Text color="fg.muted" fontWeight={400}>
          {props.note}
        </Text>
      </Button>
      {props.take && (
        <Button size="xs" variant="outline" aria-label={`Use ${props.name}`} onClick={props.take}>
          Take
        </Button>
      )}
    </Flex>
  );
}
