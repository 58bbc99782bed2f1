use super::*;

fn limits() -> Limits {
    Limits {
        least: 0,
        most: 20,
        slots: 2,
        idle: Span::seconds(30),
        start: Some(Span::seconds(10)),
        failures: 0,
        failed_at: None,
    }
}

fn work(seconds: u64) -> Demand {
    Demand { work: Span::seconds(seconds), longest: Span::seconds(1), slots: 1000, within: None, budget: None }
}

fn at(seconds: u64) -> Timestamp {
    Timestamp(1_000_000_000_000) + Span::seconds(seconds)
}

fn asked(pool: &Limits, demand: Demand) -> (u32, String) {
    let decision = decide(pool, &[demand], &[], at(0));
    (decision.start, decision.why)
}

#[test]
fn as_many_are_wanted_as_still_save_more_than_they_cost() {
    assert_eq!(asked(&limits(), work(0)), (0, "0 of 20: nothing waits".into()));
    assert_eq!(asked(&limits(), work(4)).0, 1, "a second would save a second");
    let (many, why) = asked(&limits(), work(600));
    assert!((8..=12).contains(&many), "{many}");
    assert_eq!(why, format!("{many} of 20: more would save under 3.0 s each"));
    assert_eq!(asked(&limits(), work(100_000)), (20, "20 of 20: the pool may have no more".into()));
    let narrow = Demand { slots: 5, ..work(100_000) };
    assert_eq!(asked(&limits(), narrow), (3, "3 of 20: what is left can use 5 slots".into()));
    let long = Demand { longest: Span::seconds(200), ..work(600) };
    assert!(asked(&limits(), long).0 <= 3, "nothing ends before the longest test");
    let slow = Limits { start: Some(Span::seconds(90)), ..limits() };
    assert!(asked(&slow, work(600)).0 < many, "what takes long to start is started less");
}

#[test]
fn a_deadline_wants_more_and_a_budget_fewer() {
    let within = |seconds: u64| Demand { within: Some(Span::seconds(seconds)), ..work(600) };
    let (some, _) = asked(&limits(), work(600));
    let (more, why) = asked(&limits(), within(30));
    assert!(more > some, "{more}");
    assert_eq!(why, format!("{more} of 20: so that it is over in time"));
    assert_eq!(asked(&limits(), within(300)).0, some, "it will be anyway");
    let (most, why) = asked(&limits(), within(12));
    assert_eq!((most, why.as_str()), (20, "20 of 20: it will not be over in time, and more would not help"));
    let poor = Demand { budget: Some(Span::seconds(700)), ..work(600) };
    let (few, why) = asked(&limits(), poor);
    assert!(few < some && why.contains("its budget allows no more"), "{few}: {why}");
    let broke = Demand { budget: Some(Span::seconds(1)), ..work(600) };
    assert_eq!(asked(&limits(), broke).0, 1, "one carries it out all the same");
}

#[test]
fn what_idles_goes_after_a_while_and_what_is_still_coming_at_once() {
    let machine = |id, state| Machine { id, state };
    let machines = [
        machine(1, State::Busy),
        machine(2, State::Idle(at(0))),
        machine(3, State::Idle(at(20))),
        machine(4, State::Coming(at(25))),
    ];
    let little = [work(2)];
    let decision = decide(&limits(), &little, &machines, at(29));
    assert_eq!((decision.end.as_slice(), decision.wake), (&[4][..], Some(at(30))));
    let decision = decide(&limits(), &little, &machines[..3], at(30));
    assert_eq!((decision.end.as_slice(), decision.wake), (&[2][..], Some(at(50))));
    let kept = Limits { least: 2, ..limits() };
    let decision = decide(&kept, &[], &machines[1..3], at(500));
    assert!(decision.end.is_empty() && decision.start == 0 && decision.why.contains("so many stay"), "{decision:?}");
    assert_eq!(decide(&kept, &[], &[], at(0)).start, 2);
    assert_eq!(decide(&limits(), &[], &machines[..1], at(500)).end, Vec::<u64>::new(), "what works stays");
}

#[test]
fn machines_that_are_coming_count_and_those_that_never_come_are_given_up() {
    let coming = |since: u64| Machine { id: since, state: State::Coming(at(since)) };
    let (wanted, _) = asked(&limits(), work(600));
    let some: Vec<Machine> = (0..u64::from(wanted)).map(|_| coming(0)).collect();
    let decision = decide(&limits(), &[work(600)], &some, at(1));
    assert_eq!((decision.start, decision.end.len()), (0, 0), "{decision:?}");
    // Three times what a start takes, and a minute.
    let decision = decide(&limits(), &[work(600)], &[coming(0)], at(90));
    assert_eq!((decision.given_up.as_slice(), decision.start), (&[0][..], wanted));
    assert_eq!(decide(&limits(), &[work(600)], &[coming(0)], at(1)).wake, Some(at(90)));
}

#[test]
fn starts_that_fail_are_tried_again_with_growing_pauses_one_at_a_time() {
    let failed = |failures| Limits { failures, failed_at: Some(at(0)), ..limits() };
    let decision = decide(&failed(1), &[work(600)], &[], at(1));
    assert_eq!((decision.start, decision.wake), (0, Some(at(2))));
    assert!(decision.why.ends_with("; the last start failed, and the next is tried in 1.0 s"), "{}", decision.why);
    assert_eq!(decide(&failed(1), &[work(600)], &[], at(2)).start, 1);
    assert_eq!(decide(&failed(3), &[work(600)], &[], at(7)).start, 0);
    assert_eq!(decide(&failed(3), &[work(600)], &[], at(8)).start, 1);
    assert_eq!(decide(&failed(40), &[work(600)], &[], at(299)).wake, Some(at(300)), "at most five minutes");
}

#[test]
fn no_numbers_break_it() {
    let huge = Demand {
        work: Span(u64::MAX),
        longest: Span(u64::MAX),
        slots: u32::MAX,
        within: Some(Span::ZERO),
        budget: Some(Span::ZERO),
    };
    for pool in [
        Limits { most: 0, ..limits() },
        Limits { slots: 0, ..limits() },
        Limits { least: 50, most: 3, ..limits() },
        Limits { start: Some(Span::ZERO), ..limits() },
        Limits { start: Some(Span(u64::MAX)), failures: u32::MAX, failed_at: Some(at(0)), ..limits() },
    ] {
        let decision = decide(&pool, &[huge, work(1)], &[Machine { id: 1, state: State::Coming(at(9)) }], at(0));
        assert!(decision.start <= pool.most, "{decision:?}");
    }
}
