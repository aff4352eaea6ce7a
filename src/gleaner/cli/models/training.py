"""Training, refreshing, exporting and bringing in models."""

from __future__ import annotations

import io
import zipfile
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from gleaner.cli.common import console, emit, follow_job, table, with_client

if TYPE_CHECKING:
    from gleaner.client import Client
    from gleaner.wire.models.cards import ModelCard
    from gleaner.wire.models.training import Estimate, Family, TrainRequest

FILE = click.Path(exists=True, dir_okay=False, path_type=Path)
CONFIRM = click.option("--yes", "confirm", is_flag=True, help="Train although the estimate is over a limit.")


@click.command()
@with_client
def families(client: Client, as_json: bool) -> None:
    """Every model family: what it is for, what it takes.

    \b
    Example:
      gleaner model families
    """
    from gleaner.client import model_calls

    every = client.send(model_calls.families())
    emit(every, as_json, lambda: _show_families(every))


def _show_families(families: list[Family]) -> None:
    out = console()
    for group in dict.fromkeys(each.group for each in families):
        out.print(f"[bold]{group}[/]")
        rows = table("family", "feedback", "what it does", "columns", "new users", whole=("family", "feedback"))
        for each in families:
            if each.group == group:
                new = "yes" if each.folds_in else "same for all" if not each.personal else "no"
                columns = "tables, context" if each.takes_context else "tables" if each.takes_features else "no"
                rows.add_row(each.family, each.feedback, each.summary, columns, new)
        out.print(rows)


@click.command()
@click.argument("data")
@click.argument("family", required=False, default="")
@click.option("--set", "settings", multiple=True, metavar="NAME=VALUE", help="A parameter; repeat.")
@click.option("--like", help="Take family, parameters and preparation from this model.")
@click.option("--prepare", "file", type=FILE, help="YAML with `prepare`, `split` and `seed`; a contest file will do.")
@click.option("--name", help="Name of the model. [DATA.FAMILY]")
@click.option(
    "--on", type=click.Choice(["everything", "training"]), default="everything", show_default=True,
    help="All rows, for release; or the training part, watched on the validation part.",
)  # fmt: skip
@click.option(
    "--watch",
    "metric",
    default="ndcg@10",
    show_default=True,
    help="Judges rounds on validation: ndcg@10, recall@5, rmse, ...",
)
@click.option(
    "--patience", default=0, type=click.IntRange(0), help="Stop after so many iterations without a better one."
)
@click.option("--estimate", "only_estimate", is_flag=True, help="Only say what it will take.")
@CONFIRM
@with_client
def train(client: Client, data: str, family: str, as_json: bool, only_estimate: bool, **options: Any) -> None:
    """Train one model on a dataset version, without a contest. Says first what it will take.

    \b
    Examples:
      gleaner model train seeds als --set rank=64 --prepare first-look.yaml
      gleaner model train seeds --like first-look.als --name release
      gleaner model train seeds als --prepare first-look.yaml --on training --patience 3
    """
    _train(client, _request(data, family, options), as_json, only_estimate)


@click.command()
@click.argument("model")
@click.option("--data", required=True, help="The newer dataset version.")
@click.option("--compare", is_flag=True, help="Fit from scratch too, and say how the lists differ.")
@CONFIRM
@with_client
def refresh(client: Client, model: str, data: str, compare: bool, confirm: bool, as_json: bool) -> None:
    """Go on from a model's last state with a newer version of the data; new users and items are added.

    \b
    Example:
      gleaner model refresh first-look.als --data seeds@2 --compare
    """
    from gleaner.wire.models.training import TrainRequest

    _train(client, TrainRequest(data=data, refresh=model, compare=compare, confirm=confirm), as_json, False)


def _request(data: str, family: str, options: dict[str, Any]) -> TrainRequest:
    from gleaner.wire.models.training import TrainRequest, WatchSpec

    given: dict[str, Any] = {"data": data, "family": family, "on": options["on"], "confirm": options["confirm"]}
    if options["file"] is not None:
        given |= _of_file(options["file"])
    given |= {name: options[name] for name in ("like", "name") if options[name] is not None}
    params = dict(_setting(text) for text in options["settings"])
    return TrainRequest(**given, params=params, watch=WatchSpec(metric=options["metric"], patience=options["patience"]))


def _of_file(path: Path) -> dict[str, Any]:
    from ruamel.yaml import YAML, YAMLError

    try:
        tree = YAML(typ="safe").load(path.read_text(encoding="utf-8"))
    except YAMLError as error:
        raise click.UsageError(f"{path} is not YAML: {error}") from None
    settings = ("prepare", "split", "seed")
    if not isinstance(tree, dict) or not any(name in tree for name in settings):
        raise click.UsageError(f"{path} must hold `prepare`, `split` or `seed`")
    from gleaner.wire.contests.contest import ContestSpec

    strange = [str(name) for name in tree if name not in ContestSpec.model_fields]
    if strange:
        raise click.UsageError(f"{path}: {strange[0]!r} is none of {', '.join(settings)}, nor of a contest file")
    return {name: tree[name] for name in settings if name in tree}


def _setting(text: str) -> tuple[str, Any]:
    from ruamel.yaml import YAML

    name, equals, value = text.partition("=")
    if not equals or not name:
        raise click.UsageError(f"--set takes NAME=VALUE, not {text!r}")
    return name, YAML(typ="safe").load(value)


def _train(client: Client, request: TrainRequest, as_json: bool, only_estimate: bool) -> None:
    from gleaner.cli.models.commands import show_card
    from gleaner.client import model_calls

    expected = client.send(model_calls.estimate(request))
    if only_estimate:
        emit(expected, as_json, lambda: console().print(_expected(expected)))
        return
    if not as_json:
        console(stderr=True).print(_expected(expected))
    job = follow_job(client, client.send(model_calls.train_model(request)).id, quiet=as_json)
    assert job.result is not None
    card: ModelCard = client.send(model_calls.model(job.result["model"]))
    emit(card, as_json, lambda: show_card(card))


def _expected(estimate: Estimate) -> str:
    divisor, unit = (1, "s") if estimate.seconds_high < 120 else (60, "min")
    seconds, low, high = (each / divisor for each in (estimate.seconds, estimate.seconds_low, estimate.seconds_high))
    time = f"{seconds:,.1f} {unit} ({low:,.1f} to {high:,.1f}, four times out of five)"
    over = "".join(f"\nover a limit: {text}" for text in estimate.over)
    return (
        f"{estimate.family} on {estimate.users:,} users, {estimate.items:,} items, {estimate.cells:,} rows: "
        f"about {time}, "
        f"{estimate.memory_mb:,.0f} MB ({estimate.based_on}){over}"
    )


@click.command(name="export")
@click.argument("model")
@click.option("--out", required=True, type=click.Path(path_type=Path), help="Folder to make; for onnx a file.")
@click.option(
    "--form", type=click.Choice(["folder", "factors", "onnx", "network"]), default="folder", show_default=True,
    help="The whole model; its factors as Parquet and safetensors; its scoring part as ONNX; or a network, as ONNX "
    "with the tables that go in.",
)  # fmt: skip
@with_client
def export_(client: Client, model: str, out: Path, form: str, as_json: bool) -> None:
    """Write a model to files: JSON, safetensors and Parquet, or ONNX.

    \b
    Examples:
      gleaner model export first-look.als --out ./als
      gleaner model export first-look.als --out als.onnx --form onnx
      gleaner model export networks.two_towers --out ./towers --form network
    """
    from gleaner.client import model_calls

    if out.exists():
        raise click.UsageError(f"{out} is there already; name another place")
    content = client.send(model_calls.model_export(model, form))
    if form == "onnx":
        out.write_bytes(content)
        files = [out]
    else:
        with zipfile.ZipFile(io.BytesIO(content)) as archive:
            archive.extractall(out)
            files = [out / name for name in archive.namelist()]
    sizes = {str(path): path.stat().st_size for path in files}
    emit(sizes, as_json, lambda: _show_files(sizes))


def _show_files(sizes: dict[str, int]) -> None:
    rows = table("file", "bytes", right=("bytes",))
    for path, size in sizes.items():
        rows.add_row(path, f"{size:,}")
    console().print(rows)


@click.command(name="import")
@click.argument("folder", type=click.Path(exists=True, file_okay=False, path_type=Path))
@click.option("--name", help="Name of the model. [as it was called]")
@with_client
def import_(client: Client, folder: Path, name: str | None, as_json: bool) -> None:
    """Bring in a model folder that `model export` made, here or elsewhere.

    \b
    Example:
      gleaner model import ./als --name brought.als
    """
    import tempfile

    from gleaner.cli.models.commands import show_card
    from gleaner.client import data_calls, model_calls

    with tempfile.TemporaryDirectory() as beside:
        packed = Path(beside) / f"{folder.name}.zip"
        with zipfile.ZipFile(packed, "w", zipfile.ZIP_STORED) as archive:
            for each in sorted(folder.iterdir()):
                if each.is_file():
                    archive.write(each, each.name)
        upload = client.send(data_calls.upload(packed)).upload
    job = follow_job(client, client.send(model_calls.take_model(upload, name)).id, quiet=as_json)
    assert job.result is not None
    card = client.send(model_calls.model(job.result["model"]))
    emit(card, as_json, lambda: show_card(card))
