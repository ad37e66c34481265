"""Taking people in from files, in the order in which a row goes: `batches` (by `fast_rows`, in a worker), `apply`,
`lookalikes`, `report`.

May import `jobs.desk`, `jobs.people` and `jobs.lists`.
"""
