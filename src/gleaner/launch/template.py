"""What serving processes and the worker start as: all code of both imported. Imported by what they are forked from, and
by nothing else."""

from gleaner.jobs.worker import template as _jobs
from gleaner.jobs.worker import worker as _worker
from gleaner.service.http import run as _service

IMPORTED = (_service, _worker, _jobs)
