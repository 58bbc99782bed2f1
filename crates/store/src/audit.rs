//! Who did what when.

use chrono::{DateTime, Utc};
use diesel::{ExpressionMethods, Insertable, QueryDsl, Queryable, Selectable, SelectableHelper, TextExpressionMethods};

use crate::{Error, Store, query::RunQueryDsl, schema::audit};

/// Something that was done, or refused.
#[derive(Debug, Clone, PartialEq, Eq, Insertable)]
#[diesel(table_name = audit)]
pub struct NewAudit {
    pub at: DateTime<Utc>,
    /// The token's name; empty where none was shown that is known.
    pub who: String,
    pub role: String,
    /// From where.
    pub address: String,
    /// In words: `start`, `token add`.
    pub what: String,
    /// The call: `POST /api/runs`.
    pub path: String,
    /// How it was answered (RFC 9110).
    pub status: i32,
    /// What it was about, beyond what the path says.
    pub note: String,
}

/// The same as it is kept.
#[derive(Debug, Clone, PartialEq, Eq, Queryable, Selectable)]
#[diesel(table_name = audit, check_for_backend(diesel::pg::Pg))]
pub struct AuditRow {
    pub id: i64,
    pub at: DateTime<Utc>,
    pub who: String,
    pub role: String,
    pub address: String,
    pub what: String,
    pub path: String,
    pub status: i32,
    pub note: String,
}

/// What is asked for.
#[derive(Debug, Clone, Default)]
pub struct AuditFilter {
    pub who: Option<String>,
    pub what: Option<String>,
    /// What the note or path holds.
    pub about: Option<String>,
    pub from: Option<DateTime<Utc>>,
    pub until: Option<DateTime<Utc>>,
    /// Only what was refused, or only what was not.
    pub refused: Option<bool>,
    /// Those before this id.
    pub before: Option<i64>,
    pub limit: i64,
}

impl Store {
    /// Keeps what was done.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn add_audit(&self, rows: &[NewAudit]) -> Result<(), Error> {
        let mut c = self.connection().await?;
        diesel::insert_into(audit::table).values(rows).execute(&mut c).await?;
        Ok(())
    }

    /// What was done, the latest first.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn audit(&self, filter: &AuditFilter) -> Result<Vec<AuditRow>, Error> {
        let mut c = self.connection().await?;
        let mut of = audit::table.into_boxed();
        if let Some(who) = &filter.who {
            of = of.filter(audit::who.eq(who));
        }
        if let Some(what) = &filter.what {
            of = of.filter(audit::what.eq(what));
        }
        if let Some(about) = &filter.about {
            let like = format!("%{}%", about.replace('\\', "\\\\").replace('%', "\\%").replace('_', "\\_"));
            of = of.filter(audit::path.concat(" ").concat(audit::note).like(like));
        }
        if let Some(from) = filter.from {
            of = of.filter(audit::at.ge(from));
        }
        if let Some(until) = filter.until {
            of = of.filter(audit::at.lt(until));
        }
        match filter.refused {
            Some(true) => of = of.filter(audit::status.ge(400)),
            Some(false) => of = of.filter(audit::status.lt(400)),
            None => {}
        }
        if let Some(before) = filter.before {
            of = of.filter(audit::id.lt(before));
        }
        let of = of.order(audit::id.desc()).limit(filter.limit);
        Ok(of.select(AuditRow::as_select()).load(&mut c).await?)
    }
}
