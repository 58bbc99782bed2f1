drop table records, artifacts, attempts, batches, run_notes, runs, listings, suites, sources, tokens;
