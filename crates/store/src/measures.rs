//! What runs measured.

use diesel::{
    QueryableByName,
    sql_types::{Array, BigInt, Double, Integer, Jsonb, Text},
};
use diesel_async::AsyncPgConnection;
use kesmo_core::measure::{Counts, Gathered, Measure, Part, Point, Spread};

use crate::{Error, Store, content, json, query::RunQueryDsl, statement::statement};

statement! {
    /// What batches measured in some seconds.
    InsertParts = "insert into measure_parts (run_id, batch, number, part) select * from unnest(",
        ") on conflict do nothing";
    run_id: Array<BigInt> = Vec<i64>, batch: Array<Integer> = Vec<i32>, number: Array<Integer> = Vec<i32>,
    part: Array<Jsonb> = Vec<serde_json::Value>
}

#[derive(QueryableByName)]
struct PartRow {
    #[diesel(sql_type = Integer)]
    batch: i32,
    #[diesel(sql_type = Jsonb)]
    part: serde_json::Value,
}

/// A measure of a run that is over, as it is kept.
#[derive(Debug, Clone, QueryableByName)]
pub struct MeasureRow {
    #[diesel(sql_type = BigInt)]
    pub run_id: i64,
    #[diesel(sql_type = Text)]
    pub name: String,
    #[diesel(sql_type = Text)]
    pub unit: String,
    #[diesel(sql_type = BigInt)]
    pub count: i64,
    #[diesel(sql_type = BigInt)]
    pub errors: i64,
    #[diesel(sql_type = Double)]
    pub sum: f64,
    #[diesel(sql_type = Double)]
    pub min: f64,
    #[diesel(sql_type = Double)]
    pub max: f64,
    /// The second of the run's first value, since 1970.
    #[diesel(sql_type = BigInt)]
    pub first: i64,
    #[diesel(sql_type = BigInt)]
    pub seconds: i64,
    #[diesel(sql_type = BigInt)]
    pub step: i64,
    #[diesel(sql_type = Jsonb)]
    pub pairs: serde_json::Value,
    /// Empty where only totals were asked for.
    #[diesel(sql_type = Jsonb)]
    pub points: serde_json::Value,
}

impl MeasureRow {
    /// What it was.
    ///
    /// # Errors
    /// If what is kept cannot be read.
    pub fn measure(self) -> Result<Measure, Error> {
        let pairs: Vec<(u64, u64)> = content(self.pairs)?;
        let points: Vec<Point> = content(self.points)?;
        let counts = Counts {
            count: self.count.unsigned_abs(),
            errors: self.errors.unsigned_abs(),
            sum: self.sum,
            min: self.min,
            max: self.max,
        };
        let (seconds, step) = (self.seconds.unsigned_abs(), self.step.unsigned_abs());
        Ok(Measure { name: self.name, unit: self.unit, spread: Spread::of(counts, &pairs), seconds, points, step })
    }
}

/// What a run that is over measured.
#[derive(Debug, Clone)]
pub struct NewMeasures {
    pub run_id: i64,
    pub measured: Gathered,
}

impl Store {
    /// What the batches of a run that goes on measured.
    ///
    /// # Errors
    /// If PostgreSQL does not answer, or what is kept cannot be read.
    pub async fn measured(&self, run: i64) -> Result<Gathered, Error> {
        let mut c = self.connection().await?;
        let rows: Vec<PartRow> =
            diesel::sql_query("select batch, part from measure_parts where run_id = $1 order by batch, number")
                .bind::<BigInt, _>(run)
                .load(&mut c)
                .await?;
        let parts: Vec<(u32, Part)> = rows
            .into_iter()
            .map(|row| Ok((row.batch.unsigned_abs(), content(row.part)?)))
            .collect::<Result<_, Error>>()?;
        Ok(Gathered::of(parts))
    }

    /// The measures of a run that is over, by name.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn measures_of(&self, run: i64) -> Result<Vec<MeasureRow>, Error> {
        let mut c = self.connection().await?;
        let all = diesel::sql_query("select * from run_measures where run_id = $1 order by name");
        Ok(all.bind::<BigInt, _>(run).load(&mut c).await?)
    }

    /// The latest runs of a suite that are over and measured something; at most so many.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn measuring_runs(&self, suite: i64, most: i64) -> Result<Vec<i64>, Error> {
        #[derive(QueryableByName)]
        struct Id {
            #[diesel(sql_type = BigInt)]
            id: i64,
        }
        let mut c = self.connection().await?;
        let found: Vec<Id> = diesel::sql_query(
            "select id from runs r where suite_id = $1 and not jsonb_exists(labels, 'hunt') \
             and exists (select 1 from run_measures m where m.run_id = r.id) order by id desc limit $2",
        )
        .bind::<BigInt, _>(suite)
        .bind::<BigInt, _>(most)
        .load(&mut c)
        .await?;
        Ok(found.into_iter().map(|row| row.id).collect())
    }

    /// The measures of some runs without how they went over time, by run and name.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn measures_of_all(&self, runs: &[i64]) -> Result<Vec<MeasureRow>, Error> {
        let mut c = self.connection().await?;
        let all = diesel::sql_query(
            "select run_id, name, unit, count, errors, sum, min, max, first, seconds, step, pairs, '[]'::jsonb as points \
             from run_measures where run_id = any($1) order by run_id, name",
        );
        Ok(all.bind::<Array<BigInt>, _>(runs).load(&mut c).await?)
    }
}

/// Writes what batches measured.
pub(crate) async fn write_parts(c: &mut AsyncPgConnection, parts: &[(i64, u32, Part)]) -> Result<(), Error> {
    if parts.is_empty() {
        return Ok(());
    }
    let int = |n: u32| i32::try_from(n).unwrap_or(i32::MAX);
    let rows = InsertParts {
        run_id: parts.iter().map(|p| p.0).collect(),
        batch: parts.iter().map(|p| int(p.1)).collect(),
        number: parts.iter().map(|p| int(p.2.number)).collect(),
        part: parts.iter().map(|p| json(&p.2)).collect::<Result<_, _>>()?,
        lifetime: std::marker::PhantomData,
    };
    rows.execute(c).await?;
    Ok(())
}

/// Writes what a run that is over measured, in place of its parts.
pub(crate) async fn write_measures(c: &mut AsyncPgConnection, of: &NewMeasures) -> Result<(), Error> {
    diesel::sql_query("delete from measure_parts where run_id = $1").bind::<BigInt, _>(of.run_id).execute(c).await?;
    let long = |n: u64| i64::try_from(n).unwrap_or(i64::MAX);
    for measure in of.measured.all() {
        let counts = measure.spread.counts;
        diesel::sql_query(
            "insert into run_measures (run_id, name, unit, count, errors, sum, min, max, first, seconds, step, pairs, points) \
             values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13) on conflict do nothing",
        )
        .bind::<BigInt, _>(of.run_id)
        .bind::<Text, _>(&measure.name)
        .bind::<Text, _>(&measure.unit)
        .bind::<BigInt, _>(long(counts.count))
        .bind::<BigInt, _>(long(counts.errors))
        .bind::<Double, _>(counts.sum)
        .bind::<Double, _>(counts.min)
        .bind::<Double, _>(counts.max)
        .bind::<BigInt, _>(of.measured.begins().unwrap_or(0))
        .bind::<BigInt, _>(long(measure.seconds))
        .bind::<BigInt, _>(long(measure.step))
        .bind::<Jsonb, _>(json(&measure.spread.pairs())?)
        .bind::<Jsonb, _>(json(&measure.points)?)
        .execute(c)
        .await?;
    }
    Ok(())
}
