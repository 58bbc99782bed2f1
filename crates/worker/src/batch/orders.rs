//! What a batch is told while it runs, and who tells it.

use kesmo_wire::link::GrantedEntry;
use tokio::sync::{mpsc, watch};

/// What a batch is told while it runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Order {
    #[default]
    GoOn,
    /// Give back what has not begun: from this entry on, or all, and end after what runs.
    GiveBack { from: Option<u32> },
    /// End at once.
    Revoke,
}

impl Order {
    /// Whether it is to be done in place of one that came before. More than once a part may be asked for.
    pub(crate) fn outdoes(self, before: Self) -> bool {
        match (self, before) {
            (_, Self::Revoke) | (Self::GoOn, _) => false,
            (Self::GiveBack { .. }, Self::GiveBack { from: None }) => false,
            (new, before) => new != before,
        }
    }
}

/// Tells a batch what to do.
#[derive(Debug)]
pub struct Switches {
    pub order: watch::Sender<Order>,
    pub follow: watch::Sender<bool>,
    pub feed: mpsc::UnboundedSender<Fed>,
    /// It may begin.
    pub begin: watch::Sender<bool>,
}

/// More entries for a process that stays; with `last` there are no others.
#[derive(Debug)]
pub struct Fed {
    pub entries: Vec<GrantedEntry>,
    pub last: bool,
}

/// What a batch is told.
#[derive(Debug)]
pub struct Told {
    pub(super) order: watch::Receiver<Order>,
    pub(super) follow: watch::Receiver<bool>,
    pub(super) feed: mpsc::UnboundedReceiver<Fed>,
    pub(super) begin: watch::Receiver<bool>,
}

/// The two ends of what a batch is told, which may begin at once or is let through later.
pub fn switches(at_once: bool) -> (Switches, Told) {
    let ((order, order_told), (follow, follow_told)) = (watch::channel(Order::GoOn), watch::channel(false));
    let (feed, fed) = mpsc::unbounded_channel();
    let (begin, begin_told) = watch::channel(at_once);
    let told = Told { order: order_told, follow: follow_told, feed: fed, begin: begin_told };
    (Switches { order, follow, feed, begin }, told)
}
