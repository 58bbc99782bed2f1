-- A test is found by one expression alone. By its suite and another expression it was not always: of a suite that PostgreSQL had not
-- counted yet it expected one test, and looked at all of them for each that was asked for.
create unique index tests_by_key on tests (md5(suite_id::text || E'\n' || test || E'\n' || variant));

-- Each by the index, whatever is known of how many there are.
create function tests_of(suite bigint, names text[], variants text[]) returns table (id bigint)
    language sql stable
    set enable_hashjoin = off set enable_mergejoin = off set enable_seqscan = off
    as $$
        select t.id from unnest(names, variants) with ordinality as n (test, variant, place)
        left join tests t
            on md5(t.suite_id::text || E'\n' || t.test || E'\n' || t.variant) = md5(suite::text || E'\n' || n.test || E'\n' || n.variant)
        order by n.place
    $$;
