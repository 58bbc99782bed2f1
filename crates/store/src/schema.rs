//! The tables as Diesel sees them. Kept in step with `migrations/`.

diesel::table! {
    tokens (name) {
        name -> Text, hash -> Binary, role -> Text, created_at -> Timestamptz, last_used_at -> Nullable<Timestamptz>,
        until -> Nullable<Timestamptz>, prefix -> Text, account -> Nullable<Text>,
        suites -> Array<Text>, pools -> Array<Text>,
    }
}
diesel::table! {
    accounts (name) {
        name -> Text, role -> Text, password -> Nullable<Text>, made_by -> Text, made_at -> Timestamptz, seen_at -> Nullable<Timestamptz>,
        issuer -> Nullable<Text>, subject -> Nullable<Text>, confirmed_at -> Nullable<Timestamptz>, suites -> Array<Text>,
    }
}
diesel::table! {
    password_links (hash) { hash -> Binary, account -> Text, until -> Timestamptz, }
}
diesel::table! {
    audit (id) {
        id -> BigInt, at -> Timestamptz, who -> Text, role -> Text, address -> Text, what -> Text, path -> Text, status -> Integer,
        note -> Text,
    }
}
diesel::table! {
    sessions (hash) {
        hash -> Binary, token -> Nullable<Text>, made_at -> Timestamptz, until -> Timestamptz, account -> Nullable<Text>, id -> BigInt, about -> Text,
        address -> Text, seen_at -> Timestamptz,
    }
}
diesel::table! {
    sources (digest) { digest -> Text, suite_file -> Text, added_at -> Timestamptz, }
}
diesel::table! {
    suites (id) {
        id -> BigInt, slug -> Text, about -> Text, source -> Text, added_at -> Timestamptz, last_run -> Integer, removed -> Bool,
        start_cost_us -> Nullable<BigInt>, stamp -> BigInt, git -> Nullable<Jsonb>, trouble -> Nullable<Text>,
        variants -> Nullable<Array<Text>>,
    }
}
diesel::table! {
    listings (key) { key -> Text, tests -> Jsonb, listed_at -> Timestamptz, }
}
diesel::table! {
    runs (id) {
        id -> BigInt, suite_id -> BigInt, number -> Integer, source -> Nullable<Text>, pool -> Text, options -> Jsonb, labels -> Jsonb,
        seed -> BigInt, started_by -> Text, phase -> Text, verdict -> Nullable<Text>, reason -> Text,
        listings -> Array<Text>, listed -> Integer, tally -> Jsonb, stats -> Jsonb, strip -> Text,
        created_at -> Timestamptz, began_at -> Nullable<Timestamptz>, finished_at -> Nullable<Timestamptz>, parks -> Jsonb,
        git -> Nullable<Jsonb>, branch -> Nullable<Text>, commit -> Nullable<Text>, origin -> Jsonb, brief -> Nullable<Text>,
        schedule_id -> Nullable<BigInt>, follow -> Nullable<Jsonb>, chain -> Nullable<BigInt>, stop_asked -> Nullable<Text>,
        rank -> Nullable<Double>, images -> Jsonb,
    }
}
diesel::table! {
    run_cuts (run_id) { run_id -> BigInt, cuts -> Jsonb, }
}
diesel::table! {
    run_notes (id) { id -> BigInt, run_id -> BigInt, at -> Timestamptz, text -> Text, fails -> Bool, }
}
diesel::table! {
    batches (run_id, number) {
        run_id -> BigInt, number -> Integer, worker -> Text, slot -> Integer, entries -> Jsonb,
        granted_at -> Timestamptz, open -> Bool,
    }
}
diesel::table! {
    attempts (run_id, entry, number, month) {
        month -> Date, run_id -> BigInt, entry -> Integer, number -> Integer, batch -> Integer, worker -> Text, slot -> Integer,
        began_at -> Timestamptz, spent_us -> BigInt, ended -> Text, decided -> Nullable<Text>, message -> Text, detail -> Text,
        steps -> Jsonb, log -> Text, log_blob -> Nullable<Text>, log_bytes -> BigInt, busy -> Integer, of_slots -> Integer,
        expected_us -> Nullable<BigInt>, itself -> Bool,
    }
}
diesel::table! {
    artifacts (id) {
        id -> BigInt, run_id -> BigInt, entry -> Nullable<Integer>, batch -> Integer, path -> Text, about -> Text, digest -> Text,
        bytes -> BigInt,
    }
}
diesel::table! {
    records (suite_id, test, variant, pool) {
        suite_id -> BigInt, test -> Text, variant -> Text, samples -> Integer, passed -> Integer, flaky -> Integer,
        failed -> Integer, skipped -> Integer, last -> Nullable<Text>, pool -> Text, recent -> Array<BigInt>,
        since_trouble -> Nullable<Integer>,
    }
}
diesel::table! {
    parks (id) {
        id -> BigInt, suite_id -> BigInt, pattern -> Text, why -> Text, until -> Date, made_by -> Text, made_at -> Timestamptz,
        only_in -> Jsonb,
    }
}
diesel::table! {
    meetings (key) { key -> Text, run_id -> BigInt, made_at -> Timestamptz, }
}
diesel::table! {
    stamps (suite_id, stamp, pool) {
        suite_id -> BigInt, stamp -> BigInt, pool -> Text, expected -> Jsonb, made_at -> Timestamptz,
    }
}
diesel::table! {
    stamp_keys (suite_id, key) { suite_id -> BigInt, key -> Text, stamp -> BigInt, made_at -> Timestamptz, }
}
diesel::table! {
    leases (pool) { pool -> Text, service -> Text, address -> Text, until -> Timestamptz, }
}
diesel::table! {
    briefs (name) { name -> Text, brief -> Jsonb, made_by -> Text, made_at -> Timestamptz, changed_at -> Timestamptz, }
}
diesel::table! {
    schedules (id) {
        id -> BigInt, name -> Text, brief -> Nullable<Text>, suite -> Nullable<Text>, changes -> Jsonb, times -> Jsonb,
        paused -> Bool, next_at -> Nullable<Timestamptz>, run_id -> Nullable<BigInt>, made_by -> Text, made_at -> Timestamptz,
    }
}
diesel::table! {
    planned_starts (id) {
        id -> BigInt, schedule_id -> BigInt, planned_at -> Timestamptz, to_at -> Timestamptz, count -> Integer, what -> Text,
        why -> Text, run_id -> Nullable<BigInt>, at -> Timestamptz,
    }
}
diesel::table! {
    webhooks (id) {
        id -> BigInt, name -> Text, brief -> Text, secret -> Binary, takes -> Array<Text>, whens -> Array<Text>,
        per_minute -> Integer, paused -> Bool, made_by -> Text, made_at -> Timestamptz,
    }
}
diesel::table! {
    deliveries (id) {
        id -> BigInt, webhook_id -> BigInt, message_id -> Text, event -> Nullable<Text>, redelivery_of -> Nullable<BigInt>,
        genuine -> Bool, at -> Timestamptz, content_type -> Text, event_headers -> Jsonb, body -> Binary, did -> Text,
        why -> Text, run_id -> Nullable<BigInt>,
    }
}
diesel::table! {
    polls (id) {
        id -> BigInt, suite_id -> BigInt, branches -> Text, every_us -> BigInt, brief -> Nullable<Text>,
        looked_at -> Nullable<Timestamptz>, next_look -> Timestamptz, failures -> Integer, trouble -> Nullable<Text>,
        made_by -> Text, made_at -> Timestamptz,
    }
}
diesel::table! {
    poll_heads (poll_id, branch, commit) {
        poll_id -> BigInt, branch -> Text, commit -> Text, seen_at -> Timestamptz, run_id -> Nullable<BigInt>,
    }
}
diesel::table! {
    failing (id) {
        id -> BigInt, suite_id -> BigInt, branch -> Text, pool -> Text, variant -> Text, test -> Text, since_run -> BigInt,
        last_run -> BigInt, entry -> Integer, runs -> Integer, passes_before -> Integer,
    }
}
diesel::table! {
    covers (id) { id -> BigInt, suite_id -> BigInt, test -> Text, requirement -> Text, told -> Bool, }
}
diesel::table! {
    tests (id) { id -> BigInt, suite_id -> BigInt, test -> Text, variant -> Text, }
}
diesel::table! {
    older_runs (run_id) { run_id -> BigInt, }
}
diesel::table! {
    unrecorded (run_id) { run_id -> BigInt, }
}
diesel::table! {
    pools (name) {
        name -> Text, pool -> Jsonb, secret -> Nullable<Text>, mark -> Text, leaving -> Bool, made_by -> Text,
        made_at -> Timestamptz, changed_at -> Timestamptz,
    }
}
diesel::table! {
    machines (id) {
        id -> BigInt, pool -> Text, name -> Text, run_id -> Nullable<BigInt>, state -> Text, said -> Text,
        handle -> Nullable<Text>, link -> Nullable<Text>, token -> Nullable<Binary>, log -> Nullable<Text>,
        asked_at -> Timestamptz, up_at -> Nullable<Timestamptz>, ended_at -> Nullable<Timestamptz>,
    }
}
diesel::table! {
    notices (id) {
        id -> BigInt, name -> Text, rule -> Jsonb, secret -> Nullable<Binary>, paused -> Bool, made_by -> Text,
        made_at -> Timestamptz,
    }
}
diesel::table! {
    notice_deliveries (id) {
        id -> BigInt, notice_id -> BigInt, message_id -> Text, made_at -> Timestamptz, state -> Text, sample -> Bool,
        tries -> Integer, next_at -> Timestamptz, held_until -> Nullable<Timestamptz>, ended_at -> Nullable<Timestamptz>,
        said -> Text, reached -> Array<Text>,
    }
}
diesel::table! {
    notice_events (id) {
        id -> BigInt, notice_id -> BigInt, key -> Text, event -> Jsonb, at -> Timestamptz, due_at -> Timestamptz,
        held -> Nullable<Text>, delivery_id -> Nullable<BigInt>,
    }
}
diesel::table! {
    secrets (name) {
        name -> Text, sealed -> Binary, suites -> Array<Text>, briefs -> Array<Text>, made_by -> Text, made_at -> Timestamptz,
        changed_at -> Timestamptz, used_at -> Nullable<Timestamptz>, git -> Nullable<Text>,
    }
}
diesel::table! {
    shares (id) {
        id -> BigInt, hash -> Binary, kind -> Text, run_id -> Nullable<BigInt>, suite_id -> Nullable<BigInt>,
        brief -> Nullable<Text>, until -> Nullable<Timestamptz>, made_by -> Text, made_at -> Timestamptz,
        used_at -> Nullable<Timestamptz>, branch -> Nullable<Text>,
    }
}
diesel::joinable!(runs -> suites (suite_id));
diesel::joinable!(polls -> suites (suite_id));
diesel::joinable!(parks -> suites (suite_id));
diesel::joinable!(meetings -> runs (run_id));
diesel::joinable!(unrecorded -> runs (run_id));
diesel::joinable!(older_runs -> runs (run_id));
diesel::allow_tables_to_appear_in_same_query!(unrecorded, runs);
diesel::allow_tables_to_appear_in_same_query!(older_runs, runs);
diesel::allow_tables_to_appear_in_same_query!(runs, suites, parks, meetings, polls);
diesel::allow_tables_to_appear_in_same_query!(briefs, schedules);
