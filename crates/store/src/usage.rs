//! What runs took of slots.

use chrono::{DateTime, Utc};
use diesel::{
    QueryableByName,
    sql_types::{BigInt, Nullable, Text, Timestamptz},
};

use crate::{Error, Store, query::RunQueryDsl};

/// What runs have in common by which they are summed up.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum By {
    Suite,
    Brief,
    Account,
    Pool,
    Month,
    Run,
    /// The value of this label.
    Label(String),
}

/// What some runs took, in microseconds.
#[derive(Debug, Clone, QueryableByName)]
pub struct UsageSum {
    #[diesel(sql_type = Text)]
    pub key: String,
    #[diesel(sql_type = BigInt)]
    pub runs: i64,
    #[diesel(sql_type = BigInt)]
    pub tests_us: i64,
    #[diesel(sql_type = BigInt)]
    pub retried_us: i64,
    #[diesel(sql_type = BigInt)]
    pub idle_us: i64,
    #[diesel(sql_type = BigInt)]
    pub waited_us: i64,
}

impl Store {
    /// What the runs took that are over and were made from one moment on until another, of a suite or of all, by what they have in common;
    /// at most so many sums, those of the most first.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn usage(
        &self,
        by: &By,
        suite_id: Option<i64>,
        from: DateTime<Utc>,
        until: DateTime<Utc>,
        most: i64,
    ) -> Result<Vec<UsageSum>, Error> {
        let mut c = self.connection().await?;
        let key = match by {
            By::Suite => "s.slug",
            By::Brief => "coalesce(r.brief, '')",
            By::Account => "r.started_by",
            By::Pool => "r.pool",
            By::Month => "to_char(r.created_at at time zone 'UTC', 'YYYY-MM')",
            By::Run => "s.slug || '/' || r.number",
            By::Label(_) => "coalesce(r.labels ->> $5, '')",
        };
        // A sum over lines of a run each; the label is bound in any case, so that one statement does.
        let query = format!(
            "select key, count(*) as runs, sum(tests)::bigint as tests_us, sum(retried)::bigint as retried_us, \
             sum(greatest(slots * took - tests, 0))::bigint as idle_us, sum(waited)::bigint as waited_us from \
             (select {key} as key, coalesce((r.stats ->> 'total_us')::numeric, 0) as tests, \
             coalesce(extract(epoch from r.finished_at - r.began_at) * 1000000, 0) as took, \
             coalesce(extract(epoch from coalesce(r.began_at, r.finished_at) - r.created_at) * 1000000, 0) as waited, \
             (select count(*) from (select distinct worker, slot from batches b where b.run_id = r.id) d) as slots, \
             coalesce((select sum(e.retried_us) from results e where e.run_id = r.id and e.attempts > 1 \
             and e.month = date_trunc('month', r.created_at at time zone 'UTC')::date), 0) as retried \
             from runs r join suites s on s.id = r.suite_id where r.phase = 'finished' and r.created_at >= $1 and r.created_at < $2 \
             and ($3 is null or r.suite_id = $3) and $5 is not null) u group by key order by 3 desc, 1 limit $4"
        );
        let label = if let By::Label(label) = by { label.as_str() } else { "" };
        Ok(diesel::sql_query(query)
            .bind::<Timestamptz, _>(from)
            .bind::<Timestamptz, _>(until)
            .bind::<Nullable<BigInt>, _>(suite_id)
            .bind::<BigInt, _>(most)
            .bind::<Text, _>(label)
            .load(&mut c)
            .await?)
    }
}
