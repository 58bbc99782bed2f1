//! A machine of a pool, as its manager knows it, and what its row says of it.

use kesmo_core::time::Timestamp;
use kesmo_store::pools::{MachineChange, MachineRow};
use kesmo_wire::api::MachineState;

use crate::provider::{Known, Standing};

/// What is said of a machine that was told to end, and of those that end for no fault: by it a service that was killed in between
/// knows how the machine is to be told.
pub(crate) const UNNEEDED: &str = "it is needed no more";
pub(crate) const DONE: &str = "it had nothing left to do";
pub(crate) const NEVER_NEEDED: &str = "it was needed no more before it came up";
/// The longest text that is kept of a machine, in characters.
const LONGEST_SAID: usize = 1000;

/// A machine of the pool.
pub(crate) struct Machine {
    pub row: MachineRow,
    pub state: MachineState,
    pub asked_at: Timestamp,
    /// What became of it where it runs, as far as that was told.
    pub standing: Option<Standing>,
    /// Since when its worker is not known here, though it was.
    pub missing: Option<Timestamp>,
    /// Since when it was told to end.
    pub leaving: Option<Timestamp>,
    /// How it is to be told once it has been ended.
    pub ending: Option<MachineState>,
    pub changed: bool,
}

impl Machine {
    pub(crate) fn new(row: MachineRow) -> Self {
        let state = MachineState::of(&row.state).unwrap_or(MachineState::Coming);
        let asked_at = row.asked_at.into();
        Self { row, state, asked_at, standing: None, missing: None, leaving: None, ending: None, changed: false }
    }

    pub(crate) fn known(&self) -> Known {
        Known { id: self.row.id, name: self.row.name.clone(), handle: self.row.handle.clone() }
    }

    /// How one that is leaving is to be told, by what its row says of why; none of one that was only told to end.
    pub(crate) fn ending_of_row(&self) -> Option<MachineState> {
        match self.row.said.as_str() {
            UNNEEDED => None,
            DONE | NEVER_NEEDED => Some(MachineState::Ended),
            _ => Some(MachineState::Failed),
        }
    }

    /// Whether it is neither over nor being ended.
    pub(crate) fn is_there(&self) -> bool {
        self.ending.is_none() && !self.state.is_over()
    }

    pub(crate) fn say(&mut self, said: &str) {
        let said = kesmo_core::name::shorten(said, LONGEST_SAID);
        if self.row.said != said {
            self.row.said = said;
            self.changed = true;
        }
    }

    pub(crate) fn turn(&mut self, state: MachineState) {
        if self.state != state {
            self.state = state;
            self.changed = true;
        }
    }

    pub(crate) fn change(&self) -> MachineChange<'_> {
        MachineChange {
            id: self.row.id,
            state: self.state.word(),
            said: &self.row.said,
            handle: self.row.handle.as_deref(),
            link: self.row.link.as_deref(),
            log: self.row.log.as_deref(),
            up_at: self.row.up_at,
            ended_at: self.row.ended_at,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_row_says_tells_how_its_machine_ends() {
        let machine = |said: &str| {
            Machine::new(MachineRow {
                id: 7,
                pool: "night".into(),
                name: "night-7".into(),
                run_id: None,
                state: "leaving".into(),
                said: said.into(),
                handle: None,
                link: None,
                log: None,
                asked_at: "2026-11-29T02:00:00Z".parse().expect("a moment"),
                up_at: None,
                ended_at: None,
            })
        };
        let ends = |said: &str| machine(said).ending_of_row();
        assert_eq!(ends(UNNEEDED), None, "it was only told to end, and may still work");
        assert_eq!(ends(DONE), Some(MachineState::Ended));
        assert_eq!(ends(NEVER_NEEDED), Some(MachineState::Ended));
        assert_eq!(ends("its worker went away"), Some(MachineState::Failed));
        // What is kept of a text is what is read again.
        let mut long = machine("");
        long.say(&"the engine does not answer; ".repeat(100));
        assert!(long.changed && long.row.said.chars().count() == LONGEST_SAID + 1, "{}", long.row.said.len());
        assert_eq!(long.ending_of_row(), Some(MachineState::Failed));
    }
}
