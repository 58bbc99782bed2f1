//! How fast deliveries to webhooks may come.

use std::{
    collections::HashMap,
    sync::{Mutex, PoisonError},
};

use kesmo_core::{time::Span, webhook::Rate};
use kesmo_store::webhooks::WebhookRow;

use crate::refused::Refused;

/// Deliveries a minute unless told otherwise, and the most.
pub const PER_MINUTE: u32 = 120;

/// How fast deliveries come, by webhook: all of them, and those that are genuine, so that whoever does not know the secret
/// does not use up what belongs to those who do. Each service counts for itself.
#[derive(Default)]
pub struct Rates(Mutex<HashMap<(i64, bool), Rate>>);

/// So many times what a webhook takes may come to it, genuine or not.
const ANY_TIMES: u32 = 10;

impl Rates {
    pub fn take(&self, row: &WebhookRow, genuine: bool) -> Result<(), Refused> {
        let now = kesmo_floor::now();
        let per_minute =
            if genuine { row.per_minute as u32 } else { (row.per_minute as u32).max(PER_MINUTE) * ANY_TIMES };
        let mut rates = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let rate = rates.entry((row.id, genuine)).or_insert_with(|| Rate::new(per_minute, now));
        rate.take(per_minute, now).map_err(|wait: Span| {
            Refused::too_fast(format!("more than {per_minute} deliveries a minute are not taken: try again in {wait}"))
        })
    }
}
