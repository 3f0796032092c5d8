"""Looking without touching: other states, steps off, charts, maps in other roles, differences, snapshots."""
