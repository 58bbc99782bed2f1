//! What an engine makes of its plan before it begins.

use super::{Engine, State};
use crate::{
    plan::Plan,
    run::terms::{Effect, Policy},
    time::Timestamp,
    words::{Outcome, Phase},
};

/// What an engine makes of a plan before it goes by it: of very many tests that takes a while, in which others may need the engine.
#[derive(Debug)]
pub struct Prepared {
    /// One that has the plan, and nothing else.
    engine: Box<Engine>,
    /// The entries that are set aside and do not run.
    aside: Vec<u32>,
}

impl Prepared {
    /// Of a plan, for an engine of this policy that waits for one.
    #[must_use]
    pub fn of(policy: &Policy, plan: Plan) -> Self {
        let mut engine = Box::new(Engine::new(policy.clone()));
        engine.adopt(plan);
        engine.recount_left();
        let aside = engine.set_aside();
        for index in &aside {
            engine.decide(*index, Outcome::Parked);
        }
        let all = engine.indexes_where(|e| e.state == State::Waiting);
        // Nothing has failed that would wait until some time.
        engine.queue(&all, Timestamp(0));
        Self { engine, aside }
    }

    /// How many entries the plan has.
    #[must_use]
    pub fn entries(&self) -> usize {
        self.engine.entries.len()
    }
}

impl Engine {
    /// Goes by its plan, as it does at [`Input::Planned`](crate::run::Input::Planned).
    pub fn go_by(&mut self, prepared: Prepared, now: Timestamp) -> Vec<Effect> {
        let mut effects = Vec::new();
        if self.finished.is_none() {
            self.begin_with(prepared, now, &mut effects);
            self.judge(now, &mut effects);
        }
        effects
    }

    pub(super) fn begin(&mut self, plan: Plan, now: Timestamp, effects: &mut Vec<Effect>) {
        self.begin_with(Prepared::of(&self.policy, plan), now, effects);
    }

    fn begin_with(&mut self, prepared: Prepared, now: Timestamp, effects: &mut Vec<Effect>) {
        if self.phase != Phase::Listing {
            return;
        }
        let Self { plan, entries, ready, tally, parts, left_behind, cut, cases_of, together, .. } = *prepared.engine;
        let Self { left_known, left_unknown, left_variance, .. } = *prepared.engine;
        (self.plan, self.entries, self.ready, self.tally, self.parts) = (plan, entries, ready, tally, parts);
        (self.left_behind, self.cut, self.cases_of, self.together) = (left_behind, cut, cases_of, together);
        (self.left_known, self.left_unknown, self.left_variance) = (left_known, left_unknown, left_variance);
        self.phase = Phase::Running;
        self.began_at = Some(now);
        let parked = |entry| Effect::Decided { entry, number: 0, outcome: Outcome::Parked };
        effects.extend(prepared.aside.into_iter().map(parked));
        effects.extend(self.plan.notes.iter().cloned().map(Effect::Note));
    }
}
