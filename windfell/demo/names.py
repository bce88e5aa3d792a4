"""The keys of the demo sets, known without drawing anything."""

NAMES = (
    "ridge-sweep", "village-green", "chapel-brackets", "kite-clip", "two-row-sweep", "tarn-round", "drystone-wall",
    "turning-stars", "star-trails", "lantern-boats", "one-kite", "group", "chapel-stack", "card",
)
