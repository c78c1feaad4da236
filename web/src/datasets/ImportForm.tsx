import { Box, Button, Flex, Spinner, Text } from "@chakra-ui/react";
import { useMutation } from "@tanstack/react-query";
import { FolderOpen, FolderUp, Upload } from "lucide-react";
import { useRef, useState } from "react";
import { api, take } from "../api/client";
import { ErrorBox } from "../shell/PageState";
import { sayBytes } from "../words/figures";
import { FolderPicker } from "./FolderPicker";
import { ImportCard } from "./ImportCard";
import { dropped, type Gathered, gather } from "./imports";

/** Import a dataset: drop or choose files, or name a folder on the server's machine; then see what they are. */
export function ImportForm() {
  const files = useRef<HTMLInputElement>(null);
  const folder = useRef<HTMLInputElement>(null);
  const [over, setOver] = useState(false);
  const [picking, setPicking] = useState(false);
  const [sent, setSent] = useState({ bytes: 0, of: 0 });
  const upload = useMutation({
    mutationFn: async (files: Gathered[] | Promise<Gathered[]>) => {
      const found = await files;
      const of = found.reduce((sum, { file }) => sum + file.size, 0);
      setSent({ bytes: 0, of });
      return gather(found, (bytes) => setSent({ bytes, of }));
    },
  });
  const named = useMutation({ mutationFn: (path: string) => take(api.POST("/api/imports", { body: { folder: path } })) });
  const incoming = upload.data ?? named.data;
  const busy = upload.isPending || named.isPending;
  const error = upload.error ?? named.error;
  const again = () => {
    upload.reset();
    named.reset();
  };
  const choose = (found: Gathered[]) => {
    again();
    if (found.length) upload.mutate(found);
  };
  if (incoming) return <ImportCard key={incoming.id} first={incoming} close={again} />;
  return (
    <Box
      role="group"
      aria-label="Import a dataset"
      borderWidth="1px"
      borderStyle="dashed"
      borderColor={over ? "amber.solid" : "border"}
      borderRadius="4px"
      px={4}
      py={4}
      mb={6}
      onDragOver={(event) => {
        event.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={(event) => {
        event.preventDefault();
        setOver(false);
        again();
        upload.mutate(dropped(event.dataTransfer));
      }}
    >
      <Text mb={3} fontWeight={600}>
        {busy ? (
          <>
            <Spinner size="xs" mr={2} />
            {upload.isPending && sent.bytes < sent.of
              ? `uploading, ${sayBytes(sent.bytes)} of ${sayBytes(sent.of)} …`
              : "recognising the format …"}
          </>
        ) : (
          "Drop a zip, a tar, a folder or files here. What was recognised is shown before anything is imported."
        )}
      </Text>
      <Flex align="center" gap={3} wrap="wrap">
        <Button size="sm" variant="outline" onClick={() => files.current?.click()} disabled={busy}>
          <Upload size={14} /> Choose an archive or files
        </Button>
        <Button size="sm" variant="outline" onClick={() => folder.current?.click()} disabled={busy}>
          <FolderUp size={14} /> Upload a folder
        </Button>
        <Button size="sm" variant="outline" onClick={() => setPicking(true)} disabled={busy}>
          <FolderOpen size={14} /> A folder on the server
        </Button>
        <Text color="fg.muted" fontSize="small">
          COCO, Pascal VOC, YOLO, oriented boxes, class folders, mask pairs, tables, JSON per picture, plain pictures
        </Text>
        <input
          ref={files}
          type="file"
          multiple
          hidden
          aria-label="Dataset files"
          onChange={(event) => {
            choose([...(event.target.files ?? [])].map((file) => ({ file, path: file.name })));
            event.target.value = "";
          }}
        />
        <input
          ref={folder}
          type="file"
          multiple
          hidden
          aria-label="Dataset folder"
          {...{ webkitdirectory: "" }}
          onChange={(event) => {
            choose([...(event.target.files ?? [])].map((file) => ({ file, path: file.webkitRelativePath || file.name })));
            event.target.value = "";
          }}
        />
      </Flex>
      {error && (
        <Box mt={3}>
          <ErrorBox error={error}>
            <Text color="fg.muted">Nothing was imported.</Text>
          </ErrorBox>
        </Box>
      )}
      {picking && (
        <FolderPicker
          choose={(path) => {
            setPicking(false);
            again();
            named.mutate(path);
          }}
          close={() => setPicking(false)}
        />
      )}
    </Box>
  );
}
