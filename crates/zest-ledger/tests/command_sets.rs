//! Command sets as automata: they decide like the patterns read one by one, and hidden rules are found exactly.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use proptest::prelude::*;
use zest_ledger::Question;
use zest_ledger::ask::Verdict;
use zest_ledger::command::{Pattern, read_line};
use zest_ledger::finding::Code;
use zest_ledger::review::hygiene;

use crate::support::{codes, engine, findings};

/// A device that understands any line of up to six words, so that only the rules decide.
fn with_rules(rules: &[String], more: &str) -> String {
    let list: Vec<String> = rules.iter().map(|r| format!("'{r}'")).collect();
    format!(
        r#"
[users.watch-1]
proofs = ["password"]
[vocabularies.make]
abbreviation = "none"
commands = [{{ line = "..." }}]
[command-sets.tested]
rules = [{}]
[roles.tester]
band = {{ start = 1, ceiling = 1 }}
commands = ["tested"]
[systems.switch]
kind = "network-device"
vocabulary = "make"
no-command-set = "nothing"
authorisation = {{ levels = "all", configuration = true }}
[[assignments]]
to = ["user:watch-1"]
roles = ["tester"]
on = {{ all = true }}
{more}
"#,
        list.join(", ")
    )
}

/// The rules that a review calls hidden.
fn hidden(rules: &[&str]) -> Vec<String> {
    let rules: Vec<String> = rules.iter().map(|r| (*r).to_owned()).collect();
    let found = hygiene(&engine(&with_rules(&rules, "")), None);
    found.list().iter().filter(|f| f.code == Code::RuleHidden).map(|f| f.message.clone()).collect()
}

#[test]
fn a_rule_behind_a_wider_one_is_hidden_and_the_wider_one_is_named() {
    let found = hygiene(&engine(&with_rules(&["allow show ...".into(), "deny show log".into()], "")), None);
    let finding = found.list().iter().find(|f| f.code == Code::RuleHidden).expect("it is found");
    assert_eq!(finding.message, "the rule `deny show log` never decides");
    assert_eq!(finding.secondary[0].text, "by `allow show ...`");
}

#[test]
fn hidden_rules_are_found_exactly() {
    for (rules, expected) in [
        (&["deny show log", "allow show ..."][..], &[][..]),
        (&["allow {word}", "deny show"], &["deny show"]),
        (&["allow {1-7}", "allow {8-15}", "deny {1-15}"], &["deny {1-15}"]),
        (&["allow {1-7}", "allow {9-15}", "deny {1-15}"], &[]),
        (&["allow 1", "allow 2", "allow 3", "deny {1-3}"], &["deny {1-3}"]),
        (&["allow 1", "allow 2", "deny {1-3}"], &[]),
        (&["allow {number}", "deny {1-15}"], &["deny {1-15}"]),
        (&["allow {address}", "deny 192.0.2.1"], &["deny 192.0.2.1"]),
        (&["allow pier-*", "deny pier-1"], &["deny pier-1"]),
        (&["allow *-1", "deny pier-*"], &[]),
        (&["allow ...", "deny ..."], &["deny ..."]),
        (&["allow show {on|off}", "deny show on", "deny show up"], &["deny show on"]),
        (&["allow a ...", "allow {word} b", "deny a b"], &["deny a b"]),
    ] {
        let wanted: Vec<String> = expected.iter().map(|r| format!("the rule `{r}` never decides")).collect();
        assert_eq!(hidden(rules), wanted, "{rules:?}");
    }
}

#[test]
fn several_sets_add_up_and_an_explicit_deny_in_any_wins() {
    let more = "[command-sets.other]\nrules = ['deny show secret', 'allow clear ...']\notherwise = \"allow\"\n";
    let text = with_rules(&["allow show ...".into()], more).replace("commands = [\"tested\"]", "commands = [\"tested\", \"other\"]");
    let engine = engine(&text);
    for (line, allowed) in [("show log", true), ("show secret", false), ("clear all", true), ("anything else", true)] {
        let verdict = engine.decide(&Question::new("watch-1", "switch", line)).verdict;
        assert_eq!(verdict == Verdict::Allowed, allowed, "{line}");
    }
}

#[test]
fn included_rules_stand_where_they_are_included() {
    let more = "[command-sets.inner]\nrules = ['deny show log', 'allow clear ...']\notherwise = \"allow\"\n";
    for (rules, line, allowed) in [
        (&["include inner", "allow show ..."][..], "show log", false),
        (&["allow show ...", "include inner"], "show log", true),
        (&["include inner"], "clear all", true),
        // What the included set says of all other lines is not taken over.
        (&["include inner"], "something", false),
    ] {
        let rules: Vec<String> = rules.iter().map(|r| (*r).to_owned()).collect();
        let verdict = engine(&with_rules(&rules, more)).decide(&Question::new("watch-1", "switch", line)).verdict;
        assert_eq!(verdict == Verdict::Allowed, allowed, "{rules:?} {line}");
    }
}

#[test]
fn sets_that_need_too_much_memory_end_in_a_finding() {
    // Each rule tests one position and leaves the others open: every subset of them is a state.
    let rules: Vec<String> = (0..40).map(|i| format!("allow {}x{i} {{word}}", "{word} ".repeat(i))).collect();
    let wide: Vec<String> = (0..40).flat_map(|i| [format!("allow {}a {} b{i}", "{word} ".repeat(i), "{word} ".repeat(40 - i))]).collect();
    assert_eq!(codes(&findings(&with_rules(&wide, ""))), [Code::CommandSetTooLarge]);
    assert!(codes(&findings(&with_rules(&rules, ""))).is_empty(), "rules of different lengths do not multiply");
}

#[test]
fn inclusion_that_doubles_at_each_step_ends_in_a_finding() {
    let mut text = String::from("[command-sets.set-0]\nrules = ['allow a', 'allow b']\n");
    for i in 1..40 {
        text.push_str(&format!("[command-sets.set-{i}]\nrules = ['include set-{0}', 'include set-{0}']\n", i - 1));
    }
    let found = findings(&with_rules(&["include set-39".into()], &text));
    assert!(codes(&found).contains(&Code::CommandSetTooLarge), "{found}");
}

fn rule() -> impl Strategy<Value = String> {
    let word = prop_oneof![
        4 => "[ab]{1,2}",
        1 => Just("{word}".to_owned()),
        1 => Just("{number}".to_owned()),
        1 => Just("{3-12}".to_owned()),
        1 => Just("{address}".to_owned()),
        1 => Just("a*".to_owned()),
        1 => Just("*b".to_owned()),
        1 => Just("{a|b|7}".to_owned()),
        1 => Just("7".to_owned()),
    ];
    (any::<bool>(), prop::collection::vec(word, 1..4), any::<bool>()).prop_map(|(allow, words, open)| {
        let verb = if allow { "allow" } else { "deny" };
        format!("{verb} {}{}", words.join(" "), if open { " ..." } else { "" })
    })
}

const PLACEHOLDERS: [&str; 16] = [
    "{number}",
    "{address}",
    "{network}",
    "{3-12}",
    "{0-255}",
    "{100-99999}",
    "ab*ba",
    "a*",
    "*a",
    "x*aab",
    "{17-17}",
    "{999-1001}",
    "1*",
    "*:1",
    "2001*",
    "{word}",
];

/// The form in which a device compares a word: addresses as RFC 5952 writes them, and networks by their first address.
fn compared(word: &str) -> String {
    let address = |text: &str| text.parse::<IpAddr>().ok().filter(|a| a.is_ipv6() || a.to_string() == text);
    let first = |address: IpAddr, length: u32| match address {
        IpAddr::V4(four) => IpAddr::from(Ipv4Addr::from(four.to_bits() & u32::MAX.checked_shl(32 - length).unwrap_or(0))),
        IpAddr::V6(six) => IpAddr::from(Ipv6Addr::from(six.to_bits() & u128::MAX.checked_shl(128 - length).unwrap_or(0))),
    };
    if let Some(six) = address(word).filter(IpAddr::is_ipv6) {
        return six.to_canonical().to_string();
    }
    let parts = word.split_once('/').and_then(|(text, length)| Some((address(text)?, length.parse::<u8>().ok()?, length)));
    match parts {
        // A length has as many digits as the longest one, or fewer.
        Some((address, length, text))
            if text.len() <= if address.is_ipv4() { 2 } else { 3 } && length <= if address.is_ipv4() { 32 } else { 128 } =>
        {
            format!("{}/{length}", first(address, u32::from(length)))
        }
        _ => word.to_owned(),
    }
}

/// A word that some placeholder may take, or that is nearly one.
fn placed_word() -> impl Strategy<Value = String> {
    let hidden = |(bits, mask, spoilt): (u128, u128, Option<(usize, char)>)| {
        // Masked bits make runs of zeros, which is where addresses have several spellings.
        let mut letters: Vec<char> = Ipv6Addr::from(bits & mask).to_string().chars().collect();
        if let Some((at, letter)) = spoilt {
            let at = at % letters.len();
            letters[at] = letter;
        }
        letters.into_iter().collect::<String>()
    };
    let spoilt = prop::option::of((any::<usize>(), prop::char::ranges(vec!['0'..='9', 'a'..='g', '.'..='/', ':'..=':'].into())));
    let six = (any::<u128>(), any::<u128>(), spoilt).prop_map(hidden);
    let four = any::<u32>().prop_map(|bits| Ipv4Addr::from(bits).to_string());
    let network = |of: BoxedStrategy<String>| (of, 0_u8..140).prop_map(|(address, length)| format!("{address}/{length}"));
    prop_oneof![
        3 => "[0-9a-f:./xb]{1,9}",
        2 => "[0-9]{1,6}",
        1 => four.clone(),
        2 => six.clone(),
        1 => network(four.boxed()),
        1 => network(six.boxed()),
    ]
}

/// A rule that a host can be told: three words of any kind, written for `sudo`, are longer than it takes.
fn short_rule() -> impl Strategy<Value = String> {
    rule().prop_filter("a host takes a rule of this length", |rule| rule.matches(['{', '*']).count() < 3)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 200, ..ProptestConfig::default() })]

    /// The automaton decides by the first rule that matches, like reading the rules from the top.
    #[test]
    fn automaton_is_first_match(rules in prop::collection::vec(rule(), 1..8), lines in prop::collection::vec("([ab]{1,2}|7|3|12|13|192\\.0\\.2\\.1|2001:db8::1)( ([ab]{1,2}|7|12|x)){0,3}", 12)) {
        let engine = engine(&with_rules(&rules, ""));
        for line in &lines {
            let words = read_line(line).expect("the line can be read");
            let first = rules.iter().position(|r| {
                let (_, pattern) = r.split_once(' ').expect("a rule has a verb");
                Pattern::parse(pattern).expect("the pattern can be read").matches(&words)
            });
            let decision = engine.decide(&Question::new("watch-1", "switch", line));
            prop_assert_eq!(decision.rule.map(|r| r.index as usize), first, "{:?} {}", &rules, line);
            let allowed = first.is_some_and(|i| rules[i].starts_with("allow"));
            prop_assert_eq!(decision.verdict == Verdict::Allowed, allowed, "{:?} {}", &rules, line);
        }
    }

    /// However placeholders overlap, each takes the words that it says, and no others.
    #[test]
    fn placeholders_side_by_side_take_what_they_say(
        rules in prop::sample::subsequence(PLACEHOLDERS.to_vec(), 1..PLACEHOLDERS.len()).prop_shuffle(),
        words in prop::collection::vec(placed_word(), 24),
    ) {
        let rules: Vec<String> = rules.iter().map(|pattern| format!("allow {pattern}")).collect();
        let engine = engine(&with_rules(&rules, ""));
        for line in &words {
            let word = compared(line);
            let first = rules.iter().position(|r| Pattern::parse(&r["allow ".len()..]).expect("it can be read").matches(&[&word]));
            prop_assert_eq!(engine.decide(&Question::new("watch-1", "switch", line)).rule.map(|r| r.index as usize), first, "{:?} {} {}", &rules, line, word);
        }
    }

    /// A host compares words in its own way, and decides by the first rule that matches all the same.
    #[test]
    fn a_host_decides_by_the_first_match(rules in prop::collection::vec((short_rule(), "/o/[ab]|/p/a|[{]/o/a[|]/p/b[}]"), 1..10), lines in prop::collection::vec("/[op]/[ab]( ([ab]{1,2}|7|3|12|13|192\\.0\\.2\\.1)){0,3}", 16)) {
        let rules: Vec<String> = rules
                .iter()
                .map(|(rule, program)| rule.replacen(" ", &format!(" {program} "), 1).replace("{address}", "ab"))
                .collect();
        let texts = rules.iter().map(|rule| format!("{rule:?}")).collect::<Vec<_>>().join(", ");
        let engine = engine(&format!(
            "[users.op-1]\nproofs = ['key']\n[systems.box]\nkind = 'host'\nno-command-set = 'nothing'\n[command-sets.s]\nrules = [{texts}]\n\
             [hosts.box]\naccounts = {{ op-1 = {{}}, batch = {{}} }}\n\
             run-as = [{{ by = ['user:op-1'], as = ['batch'], commands = ['s'], proof = false }}]\n"
        ));
        for line in &lines {
            let words = read_line(line).expect("the line can be read");
            let first = rules.iter().find(|r| {
                let (_, pattern) = r.split_once(' ').expect("a rule has a verb");
                Pattern::parse(pattern).expect("the pattern can be read").matches(&words)
            });
            let question = Question::new("op-1", "box", line).acting("account:batch".parse().expect("a link"));
            let allowed = first.is_some_and(|rule| rule.starts_with("allow"));
            prop_assert_eq!(engine.decide(&question).verdict == Verdict::Allowed, allowed, "{:?} {}", &rules, line);
        }
    }

    /// A rule that is called hidden decides none of the lines that it matches.
    #[test]
    fn hidden_means_never_first(rules in prop::collection::vec(rule(), 2..7), lines in prop::collection::vec("(a|b|ab|7|12)( (a|b|7|x)){0,2}", 20)) {
        let engine = engine(&with_rules(&rules, ""));
        let found = hygiene(&engine, None);
        for line in &lines {
            if let Some(rule) = engine.decide(&Question::new("watch-1", "switch", line)).rule {
                // The same rule may stand in the list twice; then only the later one is hidden.
                let place = found.list().iter().filter(|f| f.code == Code::RuleHidden);
                let texts: Vec<&str> = rules.iter().map(String::as_str).collect();
                let is_first = !texts[..rule.index as usize].contains(&texts[rule.index as usize]);
                let named = place.filter(|f| f.message == format!("the rule `{}` never decides", texts[rule.index as usize])).count();
                let copies = texts.iter().filter(|t| **t == texts[rule.index as usize]).count();
                prop_assert!(!is_first || named < copies, "{:?}: `{}` decides `{line}`", &rules, texts[rule.index as usize]);
            }
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 150, ..ProptestConfig::default() })]

    /// A hole in a range, or a number too many, would be a wrong answer: both ends and their neighbours are tried.
    #[test]
    fn ranges_hold_exactly_their_numbers(low in 0_u64..2_000_000, width in 0_u64..3_000_000, inside in any::<u64>(), scale in 0_u32..7) {
        let (low, high) = (low / 10_u64.pow(scale), low / 10_u64.pow(scale) + width / 10_u64.pow(scale));
        let engine = engine(&with_rules(&[format!("allow {{{low}-{high}}}")], ""));
        let tens = (0..8).map(|n| 10_u64.pow(n)).flat_map(|n| [n - 1, n, n + 1]);
        let numbers = [low.saturating_sub(1), low, low + 1, high.saturating_sub(1), high, high + 1, low + inside % (high - low + 1), high * 10, low * 10 + 1];
        for number in numbers.into_iter().chain(tens) {
            let allowed = engine.decide(&Question::new("watch-1", "switch", &number.to_string())).verdict == Verdict::Allowed;
            prop_assert_eq!(allowed, (low..=high).contains(&number), "{} in {}-{}", number, low, high);
        }
    }

    /// Addresses and networks in any spelling are what the standard library reads, and nothing else is.
    #[test]
    fn addresses_are_those_the_standard_library_reads(bits in any::<u128>(), mask in any::<u128>(), four in any::<u32>(), prefix in 0_u8..140, junk in "[0-9a-f:.]{1,16}") {
        thread_local! {
            static ENGINE: zest_ledger::Engine = engine(&with_rules(&["allow {address}".into(), "deny {network}".into()], ""));
        }
        // Masked bits make runs of zeros, which is where addresses have several spellings.
        let six = Ipv6Addr::from(bits & mask & (mask >> 7));
        let spelt: Vec<String> = six.segments().iter().map(|s| format!("{s:04X}")).collect();
        let words = [six.to_string(), spelt.join(":"), Ipv4Addr::from(four).to_string(), format!("{six}/{prefix}"), format!("{}/{prefix}", Ipv4Addr::from(four)), junk];
        for word in words {
            let decision = ENGINE.with(|engine| engine.decide(&Question::new("watch-1", "switch", &word)));
            let expected = if word.parse::<IpAddr>().is_ok() {
                Some(0)
            } else if word.split_once('/').is_some_and(|(address, length)| {
                let most = if address.contains(':') { 128 } else { 32 };
                address.parse::<IpAddr>().is_ok() && length.parse::<u8>().is_ok_and(|l| l <= most)
            }) {
                Some(1)
            } else {
                None
            };
            prop_assert_eq!(decision.rule.map(|r| r.index), expected, "{}", word);
        }
    }
}
