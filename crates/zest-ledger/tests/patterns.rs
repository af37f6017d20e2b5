//! Patterns: what they match, what they do not, and what cannot be read.

use proptest::prelude::*;
use zest_ledger::command::{LineError, Pattern, read_line};

macro_rules! matches {
    ($($name:ident: $pattern:literal, $line:literal => $expected:literal;)+) => {
        $(
            #[test]
            fn $name() {
                let pattern = Pattern::parse($pattern).expect("the pattern can be read");
                let line = read_line($line).expect("the line can be read");
                assert_eq!(pattern.matches(&line), $expected);
            }
        )+
    };
}

matches! {
    exact_line: "show path", "show path" => true;
    longer_line_is_not_meant: "show path", "show path to x" => false;
    shorter_parent_is_not_meant: "show path ...", "show" => false;
    rest_may_be_nothing: "show path ...", "show path" => true;
    rest_may_be_much: "show ...", "show a b c d" => true;
    rest_alone_is_everything: "...", "anything at all" => true;
    word_is_one_word: "show {word}", "show a" => true;
    word_is_not_two: "show {word}", "show a b" => false;
    word_is_not_none: "show {word}", "show" => false;
    range_lower_end: "elevate {level: 1-7}", "elevate 1" => true;
    range_upper_end: "elevate {level: 1-7}", "elevate 7" => true;
    range_below: "elevate {level: 1-7}", "elevate 0" => false;
    range_above: "elevate {level: 1-7}", "elevate 8" => false;
    range_is_no_prefix: "elevate {level: 1-7}", "elevate 77" => false;
    number_any: "log {number}", "log 123456" => true;
    number_signed: "log {number}", "log -1" => false;
    address_v4: "ping {address}", "ping 192.0.2.1" => true;
    address_v6: "ping {address}", "ping 2001:db8::1" => true;
    address_name: "ping {address}", "ping host" => false;
    address_too_large: "ping {address}", "ping 192.0.2.256" => false;
    network_v4: "route {network}", "route 192.0.2.0/24" => true;
    network_is_not_an_address: "route {network}", "route 192.0.2.1" => false;
    alternatives_first: "debug {on|off}", "debug on" => true;
    alternatives_other: "debug {on|off}", "debug maybe" => false;
    star_at_end: "show port pier-*", "show port pier-7" => true;
    star_may_be_nothing: "show port pier-*", "show port pier-" => true;
    star_in_the_middle: "keep pier-*-north", "keep pier-7-north" => true;
    star_stays_in_its_word: "show port pier-*", "show port pier-7 status" => false;
    case_matters: "show release", "Show release" => false;
    quoted_word: "describe \"pier two\"", "describe \"pier two\"" => true;
    quoted_brace_is_a_word: "echo \"{word}\"", "echo x" => false;
}

#[test]
fn what_cannot_be_read_says_why_and_what_to_write() {
    for (pattern, message, help) in [
        ("", "it is empty", "..."),
        ("show *", "`*` alone", "{word}"),
        ("a*b*c", "more than one `*`", "one `*`"),
        ("show ... now", "not the last word", "{word}"),
        ("show ...now", "whole words", "blank"),
        ("show {wrd}", "not a placeholder", "{word}"),
        ("elevate {7-1}", "empty", "{1-7}"),
        ("show {on|}", "alternative", "{on|off}"),
        ("show {word", "not closed", "close"),
        ("show \"a", "not closed", "close"),
        ("show a{word}", "inside a word", "quotes"),
        ("show \u{7}", "control", "remove"),
    ] {
        let error = Pattern::parse(pattern).expect_err(pattern);
        assert!(error.message.contains(message), "{pattern}: {}", error.message);
        assert!(error.help.contains(help), "{pattern}: {}", error.help);
        assert!(pattern.get(error.span.clone()).is_some(), "{pattern}: the span is outside");
    }
}

/// Found by fuzzing: a quoted word that begins with dots was written without its quotes.
#[test]
fn quoted_dots_and_colons_read_back() {
    for text in ["\"...`\"", "\"...\" ...", "{2001:db8::1|x}", "{name: a:b|c}", "{a:b|c}", "\"{word}\"", "\"a*b\""] {
        let pattern = Pattern::parse(text).expect(text);
        assert_eq!(Pattern::parse(&pattern.to_string()), Ok(pattern), "{text}");
    }
    assert_eq!(Pattern::parse("elevate {level:1-7}"), Pattern::parse("elevate {level: 1-7}"), "the blank behind a name may be left out");
}

#[test]
fn lines_are_split_at_blanks_and_kept_together_by_quotes() {
    assert_eq!(read_line("  show\t ip  route ").expect("readable").as_slice(), ["show", "ip", "route"]);
    assert_eq!(read_line("a \"b c\" d").expect("readable").as_slice(), ["a", "b c", "d"]);
    for (line, error) in [
        ("", LineError::Empty),
        (" \t ", LineError::Empty),
        ("a \"b", LineError::Quote),
        ("a\"b\"", LineError::Quote),
        ("\"\"", LineError::Quote),
        ("\"a\"b", LineError::Quote),
        ("a \u{0}", LineError::ControlCharacter),
        ("a\u{200b}b", LineError::ControlCharacter),
    ] {
        assert_eq!(read_line(line), Err(error), "{line:?}");
    }
    assert_eq!(read_line(&"x".repeat(4097)), Err(LineError::TooLong));
    assert_eq!(read_line(&"x ".repeat(257)), Err(LineError::TooLong));
}

proptest! {
    /// Written again, a pattern reads back to the same.
    #[test]
    fn display_reads_back(text in "[a-z]{1,4}( (\\{word\\}|\\{1-9\\}|\\{on\\|off\\}|[a-z*]{1,3}|\"[a-z ]{1,4}\")){0,4}( \\.\\.\\.)?") {
        if let Ok(pattern) = Pattern::parse(&text) {
            let written = pattern.to_string();
            prop_assert_eq!(Pattern::parse(&written), Ok(pattern), "{}", written);
        }
    }

    /// No input makes the readers panic.
    #[test]
    fn any_text_is_read_or_refused(text in "\\PC{0,40}|[ -~\\t]{0,60}") {
        let _ = Pattern::parse(&text);
        let _ = read_line(&text);
    }

    /// What has been read can be split again in the same way.
    #[test]
    fn a_line_has_no_blank_words(text in "[ a-z\"\\t]{0,40}") {
        if let Ok(words) = read_line(&text) {
            prop_assert!(words.iter().all(|w| !w.is_empty() && !w.contains('"')));
        }
    }
}
