//! Addresses that start runs, and what comes there.

use chrono::{DateTime, Utc};
use kesmo_core::webhook::Did;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Adds a webhook.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct NewWebhook {
    pub name: String,
    /// The brief that it starts.
    pub brief: String,
    /// `TARGET=POINTER`, as `--take` takes it.
    pub takes: Vec<String>,
    /// `POINTER=GLOB`, as `--when` takes it.
    pub whens: Vec<String>,
    /// Deliveries a minute, at most; none means 120.
    pub per_minute: Option<u32>,
}

/// A webhook.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct WebhookOf {
    pub name: String,
    pub brief: String,
    pub takes: Vec<String>,
    pub whens: Vec<String>,
    pub per_minute: u32,
    pub paused: bool,
    /// The path to post to.
    pub path: String,
    pub made_by: String,
    pub made_at: DateTime<Utc>,
    /// Only in the answer to its making, or to a change of the secret.
    pub secret: Option<String>,
    /// Its deliveries, newest first: the latest one, or more where one webhook is asked for.
    pub deliveries: Vec<Delivery>,
}

/// A delivery to a webhook.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Delivery {
    pub id: i64,
    /// The sender's id of it.
    pub message_id: String,
    pub at: DateTime<Utc>,
    /// Whether its signature and time stamp were right.
    pub genuine: bool,
    pub did: Did,
    pub why: String,
    pub run: Option<String>,
    /// The delivery that it repeats by hand.
    pub redelivery_of: Option<i64>,
    pub bytes: u32,
    pub content_type: String,
    /// Only where one delivery is asked for.
    pub body: Option<String>,
}

/// Tries a body on a webhook: nothing is started or kept.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct TryWebhook {
    pub body: String,
    pub content_type: String,
}

/// What a body would do.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Tried {
    pub did: Did,
    pub why: String,
    /// The settings of the run that it would start, as a file.
    pub toml: Option<String>,
}
