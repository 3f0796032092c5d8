"""Everything that computes for one store, in one place: each part sees to one thing."""

from __future__ import annotations

import threading

from silent_loom.core.delivery.shelf import Shelf
from silent_loom.core.ways.prepare import Preparation
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.store.jobs import StoredJobs
from silent_loom.store.models import Models
from silent_loom.store.snapshots import Snapshots
from silent_loom.store.store import Store
from silent_loom.work.beside.oddities import Oddities
from silent_loom.work.beside.trials import Trials
from silent_loom.work.cards import Cards
from silent_loom.work.desk import Desk
from silent_loom.work.figures import Figures
from silent_loom.work.giving.delivering import Delivering
from silent_loom.work.giving.fitting import Fitting
from silent_loom.work.giving.received import Receiving
from silent_loom.work.jobs import Jobs
from silent_loom.work.looking.comparing import Comparing
from silent_loom.work.looking.reading import Reading
from silent_loom.work.many.batches import Batches
from silent_loom.work.many.variations import Variations
from silent_loom.work.mending import Mending
from silent_loom.work.models.checking import Checking
from silent_loom.work.models.model_jobs import ModelJobs
from silent_loom.work.views import Views


class Workbench:
    """The parts that answer for one store.

    Parameters
    ----------
    store, cache_bytes, preparation
        See `Desk`.

    Attributes
    ----------
    desk : Desk
        The lane, the evaluators, and who asks what.
    views, mending, figures, trials, oddities, cards, delivering
        Maps; what is wrong with a photo and what mends it; figures; pictures beside settings; what is odd about a map;
        pictures for the library; deliveries.
    comparing, reading, snapshots, models
        Differences between states; values and colours as they are spread; named states; models to look at materials on.
    shelf, fitting, receiving
        Profiles of the artist's own; what a profile makes of a material; deliveries as their receivers have them.
    batches, variations
        Many photos through a recipe; sheets of variations.
    checking, model_jobs
        What is known of models; work on them that takes its time.
    jobs : Jobs
        What takes over a second, in the background.
    """

    def __init__(self, store: Store, cache_bytes: int = 1536 << 20, preparation: Preparation | None = None) -> None:
        self.store = store
        self.desk = Desk(store, cache_bytes, preparation)
        self.jobs = Jobs(self.desk.lane, StoredJobs(store))
        self.views, self.mending, self.figures = Views(self.desk), Mending(self.desk), Figures(self.desk)
        self.trials, self.oddities = Trials(self.desk), Oddities(self.desk, self.figures)
        self.shelf, self.receiving = Shelf(store.folder / "profiles"), Receiving(store)
        self.comparing, self.reading = Comparing(self.desk, self.receiving), Reading(self.desk)
        self.snapshots, self.models = Snapshots(store), Models(store)
        self.checking = Checking(self.models, self.desk.lane)
        self.cards, self.fitting = Cards(self.desk), Fitting(self.desk, self.shelf)
        self.delivering = Delivering(self.desk, self.jobs, self.shelf, self.receiving)
        self.batches, self.variations = Batches(self.desk, self.jobs, self.shelf), Variations(self.desk)
        self.model_jobs = ModelJobs(self.desk, self.jobs, self.models, self.checking, self.shelf)
        self.seeded = threading.Event()
        """Set when the materials of the demo are in the store, if they are wanted."""

    @property
    def evaluator(self) -> Evaluator:
        return self.desk.evaluator

    def close(self) -> None:
        self.jobs.close()
        self.views.glances.close()
