//! Test programs by chance: shell scripts of which it is known whether all of what they do is good.

use kesmo_sim::Random;

/// What a program's results are read from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Results {
    Tap,
    Events,
    Junit,
    Exit,
}

/// What it is given.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Form {
    /// Several names as arguments.
    Names,
    /// One name.
    Name,
    /// Names on its standard input, one after the other.
    Fed,
    /// One file, of whose cases it tells.
    File,
}

/// Where it says how many points come.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Planned {
    Nowhere,
    First,
    Last,
}

/// What it does for a test.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Act {
    // Good ones.
    Pass,
    Noise,
    Halves,
    Child,
    Left,
    OtherStream,
    Skip,
    Todo,
    PassTwice,
    PassUnknown,
    Slow,
    Flood,
    Steps,
    /// It fails where it is asked for the first time.
    FailsFirst,
    /// It dies where it is asked for the first time.
    DiesFirst,
    /// It passes, and the process that is fed ends.
    PassesAndLeaves,
    // Bad ones.
    Fail,
    Silent,
    Killed,
    LeavesBadly,
    LeavesWell,
    BailsOut,
    PassThenFail,
    FailThenPass,
    FailUnknown,
    FailingStep,
    Hangs,
}

/// What it does when all are done.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum End {
    // Good ones.
    Well,
    Noise,
    Left,
    Closed,
    /// With a status that the suite file says is nothing.
    Ignored,
    // Bad ones.
    Badly,
    Killed,
    FailUnknown,
    /// It says that more came than did.
    Counts,
    /// What it told last is cut off.
    Cut,
}

/// A suite by chance, and what is true of it.
pub struct Program {
    pub suite_file: String,
    pub names: Vec<String>,
    pub script: String,
    pub slots: u16,
    /// How often each test runs.
    pub repeat: Option<u32>,
    /// Whether nothing in it is bad.
    pub good: bool,
    /// What is there in the folder of marks when all of it has run.
    pub ran: Vec<String>,
    /// What is known of the cases of each file, where files are to be cut by it.
    pub known: Vec<(String, Vec<String>)>,
    /// Names of which it says itself that they failed, and nothing better.
    pub failing: Vec<String>,
    /// Names of which all is good, in a process of their own or fed, and whose processes end well.
    pub innocent: Vec<String>,
    /// What was drawn.
    pub drawn: String,
}

/// How likely something bad is for each thing that a program does; half of the programs have nothing bad.
const BAD: f64 = 0.15;

/// In which order it runs what it was started for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Order {
    AsAsked,
    Backwards,
    AllAtOnce,
}

struct Draw {
    random: Random,
    results: Results,
    form: Form,
    planned: Planned,
    order: Order,
    /// Files are run again by some of their cases.
    rerun: bool,
    /// They are known to take long, and are cut by their cases, of which some may be new and some gone.
    cut: bool,
    /// How it ends does not count.
    ignored: bool,
    /// Each result of JUnit XML is in a file of its own.
    apart: bool,
    /// They share a claim, or are in groups.
    rule: &'static str,
    /// Each of two values of a facet, and each test twice.
    times_two: (bool, bool),
    bad: bool,
    retries: u64,
    /// Its process may end before all is done.
    leaves: bool,
    drawn: String,
}

/// The program of a seed.
pub fn program(seed: u64) -> Program {
    let mut random = Random::new(seed);
    let results = [Results::Tap, Results::Tap, Results::Events, Results::Events, Results::Junit, Results::Exit]
        [random.below(6) as usize];
    let form = match results {
        Results::Exit => Form::Name,
        Results::Junit => [Form::Names, Form::File][random.below(2) as usize],
        _ => [Form::Names, Form::Names, Form::Name, Form::Fed, Form::File][random.below(5) as usize],
    };
    let planned = match (results, form) {
        (Results::Tap, Form::Fed) => [Planned::Nowhere, Planned::Last][random.below(2) as usize],
        (Results::Tap, _) => [Planned::Nowhere, Planned::First, Planned::Last][random.below(3) as usize],
        _ => Planned::Nowhere,
    };
    let order = match (results, form) {
        (Results::Events, Form::Names) => {
            [Order::AsAsked, Order::Backwards, Order::AllAtOnce][random.below(3) as usize]
        }
        (_, Form::Names) => [Order::AsAsked, Order::AsAsked, Order::Backwards][random.below(3) as usize],
        _ => Order::AsAsked,
    };
    let rerun = form == Form::File && planned != Planned::First && random.chance(0.6);
    let cut = rerun && random.chance(0.7);
    let ignored = results != Results::Exit && random.chance(0.2);
    let apart = results == Results::Junit && random.chance(0.4);
    let rule = ["", "", "claims = [\"berth\"]", "group-by = 1"][if cut { 0 } else { random.below(4) as usize }];
    let times_two = (random.chance(0.2), random.chance(0.2) && !cut);
    let bad = random.chance(0.5);
    let retries = [0, 0, 1, 2][random.below(4) as usize];
    let mut drawn = format!("{results:?} {form:?} planned {planned:?} {order:?}, {retries} retries");
    for (is, what) in [
        (rerun, "rerun"),
        (cut, "cut"),
        (apart, "files apart"),
        (!rule.is_empty(), rule),
        (ignored, "end ignored"),
        (times_two.0, "two variants"),
        (times_two.1, "repeated"),
    ] {
        drawn += &if is { format!(", {what}") } else { String::new() };
    }
    let (leaves, drawn) = (false, drawn + ":");
    let mut draw = Draw {
        random,
        results,
        form,
        planned,
        order,
        rerun,
        cut,
        ignored,
        times_two,
        apart,
        rule,
        bad,
        retries,
        leaves,
        drawn,
    };
    draw.write()
}

impl Draw {
    fn write(&mut self) -> Program {
        let count = 1 + self.random.below(6);
        let names: Vec<String> = (1..=count).map(|i| format!("gate/late {i}")).collect();
        let (mut known, mut ran) = (Vec::new(), Vec::new());
        let (mut failing, mut innocent, mut good) = (Vec::new(), Vec::new(), true);
        let mut script = String::from(HEAD);
        let tell = match self.results {
            Results::Tap => TAP,
            Results::Events => EVENTS,
            Results::Junit => JUNIT,
            Results::Exit => EXIT,
        };
        script += tell;
        script += if self.apart { APART } else { "" };
        script += if self.rerun { ONLY } else { "wanted() { :; }\n" };
        if self.planned == Planned::First && self.form != Form::File {
            script += "echo 1..$#\n";
        }
        script += "act() {\ncase $1 in\n";
        for (i, name) in names.iter().enumerate() {
            let mut does = String::new();
            let cases = if self.form == Form::File { 1 + u64::from(self.cut) + self.random.below(4) } else { 1 };
            if self.planned == Planned::First && self.form == Form::File {
                does += &format!("echo 1..{cases}\n");
            }
            let (mut fails, mut bad) = (false, false);
            for case in 1..=cases {
                let of_case = format!("case {case}");
                let (told, first) =
                    if self.form == Form::File { (of_case.as_str(), case == 1) } else { (name.as_str(), i == 0) };
                let act = self.act(first);
                fails |= act == Act::Fail;
                bad |= BAD_ACTS.contains(&act);
                does += &format!("t={told:?}\nif wanted; then\nmark ran\n");
                ran.extend(self.variants().iter().map(|screen| mark("ran", name, told, screen)));
                does += lines(act);
                does += "fi\n";
            }
            if self.cut {
                let first = 1 + self.random.below(2);
                let last = cases + self.random.below(2);
                known.push((name.clone(), (first..=last).map(|case| format!("case {case}")).collect()));
            }
            if fails {
                failing.push(name.clone());
            }
            if !bad && self.form != Form::Names {
                innocent.push(name.clone());
            }
            good &= !bad;
            script += &format!("{name:?})\nf={name:?}\n{does};;\nesac\ncase $1 in\n");
        }
        script += "esac\n}\n";
        let end = self.end();
        if BAD_ENDS.contains(&end) {
            good = false;
            innocent.clear();
        }
        script += match (self.form, self.order) {
            (Form::Fed, _) => "while read -r name; do act \"$name\"; done\n",
            (Form::File, _) => "act \"$1\"\n",
            (_, Order::AsAsked) => "for name in \"$@\"; do act \"$name\"; done\n",
            (_, Order::AllAtOnce) => "for name in \"$@\"; do act \"$name\" & all=\"$all $!\"; done\nwait $all\n",
            (_, Order::Backwards) => {
                "back=; for name in \"$@\"; do back=\"$name\n$back\"; done\n\
                 while [ \"$back\" ]; do act \"${back%%\n*}\"; back=${back#*\n}; done\n"
            }
        };
        script += &self.last(end);
        let slots = 1 + self.random.below(3) as u16 + u16::from(self.cut);
        let suite_file = self.suite_file();
        let (drawn, repeat) = (self.drawn.clone(), self.times_two.1.then_some(2));
        Program { suite_file, names, script, slots, repeat, good, ran, known, failing, innocent, drawn }
    }

    fn variants(&self) -> &'static [&'static str] {
        if self.times_two.0 { &["phone", "desk"] } else { &[""] }
    }

    fn suite_file(&self) -> String {
        let run = match self.form {
            Form::Names => "run = [\"sh\", \"tests.sh\", \"{names}\"]",
            Form::Name => "run = [\"sh\", \"tests.sh\", \"{name}\"]",
            Form::File if self.rerun => {
                "run = [\"sh\", \"tests.sh\", \"{name}\"]\neach = \"file\"\n\
                 rerun = [\"sh\", \"tests.sh\", \"{name}\", \"--only\", \"{cases-file}\"]\n\
                 rest = [\"sh\", \"tests.sh\", \"{name}\", \"--not\", \"{cases-file}\"]"
            }
            Form::File => "run = [\"sh\", \"tests.sh\", \"{name}\"]\neach = \"file\"",
            Form::Fed => "run = [\"sh\", \"tests.sh\"]\nfeed = \"lines\"",
        };
        let results = match self.results {
            Results::Tap => "results = \"tap\"",
            Results::Events => "results = \"events\"",
            Results::Junit => "results = \"junit\"\njunit = [\"out/*.xml\"]",
            Results::Exit => "results = \"exit\"",
        };
        let retries = self.retries;
        let end = if self.ignored { "end = \"ignored\"\n" } else { "" };
        let rule =
            if self.rule.is_empty() { String::new() } else { format!("[[rule]]\ntests = [\"**\"]\n{}\n", self.rule) };
        let facets = if self.times_two.0 { "[facets]\nscreen = [\"phone\", \"desk\"]\n" } else { "" };
        format!(
            "suite = \"by-chance\"\n[tests]\nlist = [\"cat\", \"names\"]\n{run}\n{results}\n{end}\
             [limits]\ntest = \"4s\"\noutput = \"64 KiB\"\n[retry]\ntimes = {retries}\n{rule}{facets}"
        )
    }

    /// What it does for a test. Only something bad is told as such: whether it is, may depend on where it stands.
    fn act(&mut self, first: bool) -> Act {
        let by_result = self.results != Results::Exit;
        let tap = self.results == Results::Tap;
        // A file says by its plan what is to come, and otherwise by nothing.
        let known = self.form != Form::File || self.planned == Planned::First || self.results == Results::Events;
        let several = by_result && self.planned != Planned::First;
        // Of several that may run, nobody can tell which one it died under.
        let telling = self.results == Results::Events || self.order == Order::AsAsked;
        let in_file = self.form == Form::File;
        let is_bad = self.bad && self.random.chance(BAD);
        let of = if is_bad { BAD_ACTS } else { GOOD_ACTS };
        let fits = |act: Act, random: &mut Random| match act {
            Pass | Noise | Child | Left | OtherStream | Slow | Flood | Fail | Killed => true,
            Halves => by_result && self.results != Results::Junit && self.order != Order::AllAtOnce,
            Skip => by_result && !first,
            Todo => tap && !first,
            PassTwice | PassUnknown => several,
            Steps => by_result,
            FailsFirst => self.retries > 0,
            DiesFirst => self.retries > 0 && telling && !in_file && self.results != Results::Junit,
            PassesAndLeaves => self.form == Form::Fed && self.planned == Planned::Nowhere,
            FailingStep => tap,
            Silent | LeavesWell => by_result && known,
            // A status that says nothing leaves nothing to see it by.
            LeavesBadly => by_result && (known || !self.ignored),
            BailsOut => tap,
            PassThenFail | FailThenPass | FailUnknown => by_result,
            Hangs => random.chance(0.2),
        };
        let act = loop {
            let act = of[self.random.below(of.len() as u64) as usize];
            if fits(act, &mut self.random.clone()) {
                break act;
            }
        };
        self.leaves |= act == PassesAndLeaves;
        self.drawn += &format!(" {act:?}");
        act
    }

    fn end(&mut self) -> End {
        use End::*;
        // What leaves before its end does not come to it.
        let is_bad = self.bad && !self.leaves && self.random.chance(BAD);
        let by_result = self.results != Results::Exit;
        let end = loop {
            let end = if is_bad {
                BAD_ENDS[self.random.below(BAD_ENDS.len() as u64) as usize]
            } else {
                [Well, Well, Noise, Left, Closed, Ignored][self.random.below(6) as usize]
            };
            let fits = match end {
                Well | Noise | Left | Closed => true,
                Ignored => self.ignored,
                Badly | Killed => !self.ignored,
                FailUnknown => by_result,
                Counts => self.results == Results::Junit && !self.apart || self.planned == Planned::Last,
                Cut => self.results == Results::Junit && !self.apart || self.results == Results::Events,
            };
            if fits {
                break end;
            }
        };
        self.drawn += &format!(", {end:?}");
        end
    }

    fn last(&self, end: End) -> String {
        let mut lines = String::new();
        if end == End::FailUnknown {
            lines += "t='gate/unknown'; fail\n";
        }
        if self.planned == Planned::Last {
            lines += if end == End::Counts { "echo 1..$((n+1))\n" } else { "echo 1..$n\n" };
        }
        if self.results == Results::Junit && !self.apart {
            lines += match end {
                End::Counts => "failures=$((failures+1))\nwrite '</testsuite>'\n",
                End::Cut => "write ''\n",
                _ => "write '</testsuite>'\n",
            };
        }
        lines += match end {
            End::Noise => "noise\n",
            End::Left => "sleep 20 &\n",
            End::Closed => "exec >&- 2>&-\nsleep 0.02\n",
            End::Badly | End::Ignored => "exit 1\n",
            End::Killed => "kill -9 $$\n",
            End::Cut if self.results == Results::Events => {
                "printf '{\"test\":\"gate/late 1\",\"event\":\"end\",\"outc' >>\"$KESMO_EVENTS\"\n"
            }
            _ => "",
        };
        if self.results == Results::Exit {
            lines += "exit \"$status\"\n";
        }
        lines
    }
}

/// What the script does for it, where `t` is what it is called.
fn lines(act: Act) -> &'static str {
    match act {
        Act::Pass => "pass\n",
        Act::Noise => "noise\npass\nnoise\n",
        Act::Halves => "halves\n",
        Act::Child => "(sleep 0.03; echo '# still here' >&2) &\npass\n",
        Act::Left => "sleep 20 &\npass\n",
        Act::OtherStream => "echo \"not ok 1 - $t\" >&2\npass\n",
        Act::Skip => "skip\n",
        Act::Todo => "todo\n",
        Act::PassTwice => "pass\npass\n",
        Act::PassUnknown => "pass\nu=$t; t=gate/unknown; pass; t=$u\n",
        Act::Slow => "sleep 0.2\npass\n",
        Act::Flood => "flood\npass\nflood\n",
        Act::Steps => "steps\npass\n",
        Act::FailsFirst => "if first; then fail; else pass; fi\n",
        Act::DiesFirst => "begin\nif first; then kill -9 $$; sleep 1; else pass; fi\n",
        Act::PassesAndLeaves => "pass\nexit 0\n",
        Act::FailingStep => "bad_step\npass\n",
        Act::Fail => "fail\n",
        Act::Silent => "begin\n",
        Act::Killed => "begin\nkill -9 $$\n",
        Act::LeavesBadly => "begin\nexit 3\n",
        Act::LeavesWell => "begin\nexit 0\n",
        Act::BailsOut => "echo 'Bail out! no berth'\nexit 1\n",
        Act::PassThenFail => "pass\nfail\n",
        Act::FailThenPass => "fail\npass\n",
        Act::FailUnknown => "pass\nu=$t; t=gate/unknown; fail; t=$u\n",
        Act::Hangs => "begin\nsleep 60\n",
    }
}

use Act::{
    BailsOut, Child, DiesFirst, Fail, FailThenPass, FailUnknown, FailingStep, FailsFirst, Flood, Halves, Hangs, Killed,
    LeavesBadly, LeavesWell, Left, Noise, OtherStream, Pass, PassThenFail, PassTwice, PassUnknown, PassesAndLeaves,
    Silent, Skip, Slow, Steps, Todo,
};

const GOOD_ACTS: &[Act] = &[
    Pass,
    Pass,
    Noise,
    Halves,
    Child,
    Left,
    OtherStream,
    Skip,
    Todo,
    PassTwice,
    PassUnknown,
    Slow,
    Flood,
    Steps,
    FailsFirst,
    DiesFirst,
    PassesAndLeaves,
];

const BAD_ACTS: &[Act] = &[
    Fail,
    Fail,
    Fail,
    Silent,
    Killed,
    LeavesBadly,
    LeavesWell,
    BailsOut,
    PassThenFail,
    FailThenPass,
    FailUnknown,
    FailingStep,
    Hangs,
];

const BAD_ENDS: &[End] = &[End::Badly, End::Killed, End::FailUnknown, End::Counts, End::Cut];

/// What the script leaves in the folder of marks.
fn mark(what: &str, file: &str, told: &str, screen: &str) -> String {
    format!("{what}-{file}-{told}-{screen}").replace(['/', ' '], "-")
}

/// Which of a file's cases are to run, where it is started for some.
const ONLY: &str = "\
which=$2; list=$3
wanted() {
case $which in
--only) grep -qxF -- \"$t\" \"$list\";;
--not) ! grep -qxF -- \"$t\" \"$list\";;
esac
}
";

const HEAD: &str = "\
mark() { mkdir \"$MARKS/$(printf '%s' \"$1-$f-$t-$KESMO_FACET_SCREEN\" | tr '/ ' '--')\" 2>/dev/null; }
first() { mark first; }
flood() { head -c 150000 /dev/zero | tr '\\0' y | fold -w 90; echo; }
n=0
status=0
steps() { :; }
noise() { echo '# the tide turns at six'; echo; echo 'okay, notes of a mate'; printf '\\377\\376 \\033[1mloud\\033[0m\\n'; head -c 5000 /dev/zero | tr '\\0' x; echo; }
";

const TAP: &str = "\
begin() { :; }
point() { n=$((n+1)); printf '%s %d - %s%s\\n' \"$1\" \"$n\" \"$t\" \"$2\"; }
pass() { point ok ''; }
fail() { point 'not ok' ''; echo '# the gate is closed'; }
skip() { point ok ' # SKIP no tide'; }
todo() { point 'not ok' ' # TODO later'; }
steps() { echo \"    ok 1 - one\"; echo '    1..1'; }
bad_step() { echo \"    not ok 1 - one\"; echo '    1..1'; }
halves() { n=$((n+1)); printf 'o'; sleep 0.02; printf 'k %d - ' \"$n\"; sleep 0.01; printf '%s\\n' \"$t\"; }
";

const EVENTS: &str = "\
of() { if [ \"$t\" = \"${t#case}\" ]; then printf '\"test\":\"%s\"' \"$t\"; else printf '\"file\":\"%s\",\"case\":\"%s\"' \"$f\" \"$t\"; fi; }
event() { printf '{%s,\"event\":\"%s\"%s}\\n' \"$(of)\" \"$1\" \"$2\" >>\"$KESMO_EVENTS\"; }
begin() { event start ''; }
pass() { begin; event end ',\"outcome\":\"passed\"'; }
fail() { begin; event end ',\"outcome\":\"failed\",\"message\":\"the gate is closed\"'; }
skip() { event end ',\"outcome\":\"skipped\"'; }
steps() { event step ',\"name\":\"scan\",\"ms\":3'; event measure ',\"name\":\"scan\",\"value\":3,\"unit\":\"ms\"'; }
halves() { { printf '{%s,' \"$(of)\"; sleep 0.02; printf '\"event\":\"end\",\"outcome\":\"passed\"}\\n'; } >>\"$KESMO_EVENTS\"; }
";

const JUNIT: &str = "\
failures=0
all=
begin() { :; }
told() { n=$((n+1)); all=\"$all<testcase name=\\\"$t\\\" time=\\\"0.01\\\">$1</testcase>\"; }
pass() { told ''; }
fail() { failures=$((failures+1)); told '<failure message=\"the gate is closed\"/>'; }
skip() { told '<skipped/>'; }
write() { mkdir -p out; printf '<testsuite name=\"gate\" tests=\"%d\" failures=\"%d\">%s%s' \"$n\" \"$failures\" \"$all\" \"$1\" >out/r.xml; }
";

/// A file for each result, as soon as it is known.
const APART: &str = "\
told() { n=$((n+1)); mkdir -p out; printf '<testsuite><testcase name=\"%s\">%s</testcase></testsuite>' \"$t\" \"$1\" >\"out/$$-$n.xml\"; }
";

const EXIT: &str = "\
begin() { :; }
pass() { :; }
fail() { echo 'the gate is closed'; status=1; }
";
