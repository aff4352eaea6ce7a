"""The made-up vocabulary of the Saltmarsh Seed Exchange."""

FAMILIES = (
    "tomato", "bean", "pea", "squash", "lettuce", "kale", "beet", "carrot", "onion", "pepper", "radish", "leek",
    "spinach", "chard", "cucumber", "maize", "turnip", "celery", "herb", "flower",
)  # fmt: skip

TRAITS = (
    "climbing", "dwarf", "early", "late", "heirloom", "storing", "drought-hardy", "frost-hardy", "salt-tolerant",
    "sweet", "bitter", "striped", "giant", "bee-friendly", "slow-bolting", "container",
)  # fmt: skip

INTERESTS = (
    "preserving",
    "pollinators",
    "children",
    "exhibition",
    "market",
    "seed-saving",
    "cooking",
    "colour",
)

FIRST = (
    "Tidewater", "Lantern", "Ferrywoman's", "Grey Heron", "Old Sluice", "Saltpan", "Windrow", "Marsh Bell", "Copper",
    "Moonfield", "Driftgate", "Widow's", "Longshore", "Cinder", "Harrow", "Thistledown", "Candle", "Reedcutter's",
    "Brine", "Mudlark", "Lowtide", "Sparrow", "Wicket", "Bramble", "Sandpiper", "Foxglove Lane", "Ember", "Quayside",
    "Hollow", "Dusk",
)  # fmt: skip

SECOND = (
    "Gold", "Early", "Pride", "Wonder", "Favourite", "Giant", "Treasure", "Ruby", "Blush", "Runner", "Keeper",
    "Marvel", "Comet", "Delight", "Ribbon", "Star", "Promise", "Whistle", "Crown", "Lace", "Beauty", "Drum", "Button",
    "Feather", "Snow",
)  # fmt: skip

SENTENCES = (
    "A {trait} {family} that keeps its promise on heavy soil.",
    "Saved for years on one plot by the estuary, this {family} is {trait} and generous.",
    "Growers call it {trait}; sow thinly and give it room.",
    "A {family} for patient hands, {trait} and good to the last picking.",
    "Found in a tin marked only with a date, this {trait} {family} has come true ever since.",
    "Happy in a windy corner, {trait}, and never dull on the plate.",
)

ZONES = ("Z1", "Z2", "Z3", "Z4", "Z5", "Z6")
PLOT_SIZES = ("windowsill", "balcony", "bed", "garden", "field")
