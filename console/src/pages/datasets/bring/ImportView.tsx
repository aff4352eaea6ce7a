import { Anchor, Group } from "@mantine/core";
import { Link } from "react-router";
import type { DatasetVersion } from "../../../api/datasets";
import { ReportView } from "./ReportView";

/** What import made of the files, and what comes next. */
export function ImportView({ version }: { version: DatasetVersion }) {
  const next: [string, string][] = [
    ["look at its profile", `/data/${version.name}`],
    ["prepare and split", `/data/${version.name}?view=split`],
    ["compare models on it", `/contests/new?data=${version.name}`],
  ];
  return (
    <>
      <p className="quiet">
        Strictness {version.report.strictness}
        {version.scale && `; declared scale ${version.scale[0]} to ${version.scale[1]}`}.
      </p>
      <Group gap="lg">
        <span className="quiet">Next:</span>
        {next.map(([text, path]) => <Anchor key={path} component={Link} to={path}>{text}</Anchor>)}
      </Group>
      <ReportView report={version.report} />
    </>
  );
}
