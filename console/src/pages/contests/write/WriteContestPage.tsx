import { Anchor, Button, Group, Select, Textarea, TextInput } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { useCallback } from "react";
import { useNavigate } from "react-router";
import { useBeginContest, useContestCheck, useContestDraft, useFamilies, useMetrics, useRun } from "../../../api/contests";
import { useDatasets, useVersion, type DatasetVersion } from "../../../api/datasets";
import { useDraft } from "../../../parts/files/draft";
import { duration, sentence } from "../../../parts/format";
import { PageTitle, Section } from "../../../parts/page";
import { useSearch } from "../../../parts/search";
import { Failed, Loaded } from "../../../parts/states";
import { FirstData } from "../../datasets/bring/FirstData";
import { ContendersForm } from "./ContendersForm";
import { FileForm } from "../../../parts/files/FileForm";
import { useYamlFile } from "../../../parts/files/useYamlFile";
import { problemAt, textAt, withValue, type Change } from "../../../parts/files/yamlFile";
import { PartsPreview } from "./PartsPreview";
import { PrepareForm } from "./PrepareForm";
import { RankForm } from "./RankForm";
import { ShelvesForm } from "./ShelvesForm";
import { SplitForm } from "./SplitForm";
import { TuneForm } from "./TuneForm";

/** Writes a contest: for a version of the data, or out of an earlier run's file. */
export default function WriteContestPage() {
  const [search, choose] = useSearch();
  const datasets = useDatasets();
  const from = search.get("from");
  return (
    <Loaded query={datasets}>
      {({ items }) => {
        const versions = items.flatMap((each) => each.versions.map((version) => version.name));
        const data = search.get("data") ?? versions[0];
        if (!data) return <><PageTitle title="A contest" /><FirstData /></>;
        return (
          <>
            <PageTitle title={from ? `A contest after ${from}` : "A contest"}>
              {!from && <Select aria-label="Data" size="xs" w={200} allowDeselect={false} data={versions} value={data} onChange={(value) => choose("data", value)} />}
            </PageTitle>
            {from ? <FromRun run={from} key={from} /> : <FromDraft data={data} key={data} />}
          </>
        );
      }}
    </Loaded>
  );
}

function FromRun({ run }: { run: string }) {
  const query = useRun(run);
  return <Loaded query={query}>{(earlier) => <Writer about={`after ${run}`} data={earlier.data} initial={earlier.file} />}</Loaded>;
}

function FromDraft({ data }: { data: string }) {
  const query = useContestDraft(data);
  return <Loaded query={query}>{(draft) => <Writer about={`on ${data}`} data={data} initial={draft.file} />}</Loaded>;
}

function Writer({ about, data, initial }: { about: string; data: string; initial: string }) {
  const first = useCallback(() => initial, [initial]);
  const [text, setText, forget] = useDraft(`contest ${about}`, first);
  const version = useVersion(data);
  return <Loaded query={version}>{(known) => <FormAndFile text={text} setText={(next) => setText(() => next)} forget={forget} version={known} />}</Loaded>;
}

interface FormProps {
  text: string;
  setText: (text: string) => void;
  forget: () => void;
  version: DatasetVersion;
}

/** The form and the file, each following the other: the text is what counts, and the form reads and changes it. */
function FormAndFile({ text, setText, forget, version }: FormProps) {
  const navigate = useNavigate();
  const [settled] = useDebouncedValue(text, 350);
  const check = useContestCheck(settled);
  const families = useFamilies();
  const metrics = useMetrics();
  const { file, unreadable } = useYamlFile(text);
  const change: Change = (path, value) => setText(withValue(text, path, value));
  const problems = check.data?.problems ?? [];
  const start = useBeginContest((run) => {
    forget();
    void navigate(`/contests/${run.name}`);
  });
  const part = { file, problems, change };
  const rated = version.profile.values != null;
  const columns = [...(version.item_columns ?? []), ...(version.user_columns ?? [])].map((each) => each.name).filter((each) => each !== "id");
  const wrong = problems.length > 0 || check.isError || unreadable !== undefined;
  const division = JSON.stringify({ prepare: file.tree["prepare"] ?? {}, split: file.tree["split"] ?? {}, seed: file.tree["seed"] ?? 1 });
  return (
    <div className="form-and-file">
      <FileForm unreadable={unreadable}>
        <Section title="What is compared, on what">
          <Group gap="md" align="start">
            <TextInput size="xs" w={240} label="Name" value={textAt(file, ["contest"])} error={problemAt(problems, ["contest"])} onChange={(event) => change(["contest"], event.currentTarget.value)} />
            <TextInput size="xs" w={160} label="Data" value={textAt(file, ["data"])} error={problemAt(problems, ["data"])} onChange={(event) => change(["data"], event.currentTarget.value)} />
          </Group>
        </Section>
        <Section title="Preparation"><PrepareForm {...part} version={version} /></Section>
        <Section title="Split"><SplitForm {...part} hasTimes={version.profile.span != null} hasParts={Object.keys(version.parts ?? {}).length > 0} /></Section>
        <PartsPreview version={version} division={division} wrong={problems.some((each) => /^(prepare|split|data|seed)/.test(each.field)) || unreadable !== undefined} />
        <Section title="Contenders">
          {families.data && <ContendersForm {...part} families={families.data} estimates={check.data?.contenders ?? []} rated={rated} columns={columns} />}
        </Section>
        <Section title="Metrics">{metrics.data && <RankForm {...part} metrics={metrics.data} version={version} />}</Section>
        <Section title="Tuning and curves"><TuneForm {...part} /></Section>
        <ShelvesForm {...part} data={version.name} />
      </FileForm>
      <aside className="file-beside">
        <Section title="The file" side={<Button size="compact-xs" variant="subtle" onClick={forget}>Start over</Button>}>
          <Textarea
            aria-label="Contest file, YAML" autosize minRows={14} maxRows={30} value={text} spellCheck={false} aria-invalid={unreadable !== undefined} onChange={(event) => setText(event.currentTarget.value)}
            styles={{ input: { fontFamily: "var(--mantine-font-family-monospace)", fontSize: "0.82rem" } }}
          />
          <div role="status" aria-label="What the file comes to">
            {unreadable !== undefined && <p className="warn">{unreadable}</p>}
            {check.error && unreadable === undefined && <Failed error={check.error} title="This file could not be checked" />}
            {problems.map((each) => <p key={`${each.line}${each.field}${each.message}`} className="warn">line {each.line}: {each.field}: {each.message}</p>)}
            {!wrong && check.data?.pruning && <p className="warn">{sentence(check.data.pruning.text)}</p>}
            {!wrong && check.data?.seconds != null && <p className="quiet">Nothing wrong. It will take about {duration(check.data.seconds)} ({duration(check.data.seconds_low ?? 0)} to {duration(check.data.seconds_high ?? 0)}, four times out of five) and {check.data.memory_mb?.toFixed(0)} MB.</p>}
          </div>
          <Group gap="sm" mt="xs">
            <Button size="xs" disabled={wrong || settled !== text || check.isFetching} loading={start.isPending} onClick={() => start.mutate(text)}>Start</Button>
            <Anchor size="sm" href={`data:text/yaml;charset=utf-8,${encodeURIComponent(text)}`} download={`${textAt(file, ["contest"]) || "contest"}.yaml`}>Download</Anchor>
          </Group>
          {start.error && <Failed error={start.error} title="This was refused" />}
        </Section>
      </aside>
    </div>
  );
}
