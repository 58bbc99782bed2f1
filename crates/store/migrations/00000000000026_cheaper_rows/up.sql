-- Each batch looked up its run again when it was kept, which was half of what keeping it cost: what it is of is what is being carried out.
-- Batches go with their runs all the same, whoever removes those.
alter table batches drop constraint batches_run_id_fkey;
create function batches_go_with_runs() returns trigger language plpgsql as $$
begin
    delete from batches using gone where batches.run_id = gone.id;
    return null;
end $$;
create trigger batches_go after delete on runs referencing old table as gone
    for each statement execute function batches_go_with_runs();

-- Nothing is looked up by whether a batch is open; and with room beside it a batch is closed within its page, and no index changes.
drop index batches_open;
alter table batches set (fillfactor = 60);

-- A test is found, and is there once, by its key.
drop index tests_once;
