//! Where a part of a JSON text stands.

/// A step from a JSON value to one of its parts.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Step {
    /// The member of an object.
    Member(String),
    /// The element of an array.
    Element(usize),
}

/// The bytes of a valid JSON text, from a place on.
struct Scan<'t> {
    text: &'t [u8],
    at: usize,
}

impl Scan<'_> {
    fn space(&mut self) {
        while self.text.get(self.at).is_some_and(u8::is_ascii_whitespace) {
            self.at += 1;
        }
    }

    fn next_is(&mut self, byte: u8) -> bool {
        self.space();
        self.text.get(self.at) == Some(&byte)
    }

    /// Skips a string; returns its place with its quotes.
    fn string(&mut self) -> (usize, usize) {
        let begin = self.at;
        self.at += 1;
        while let Some(byte) = self.text.get(self.at) {
            match byte {
                b'"' => break,
                b'\\' => self.at += 2,
                _ => self.at += 1,
            }
        }
        self.at += 1;
        (begin, self.at.min(self.text.len()))
    }

    /// Skips a value.
    fn value(&mut self) {
        self.space();
        let mut depth = 0;
        while let Some(byte) = self.text.get(self.at) {
            match byte {
                b'"' => {
                    self.string();
                    if depth == 0 {
                        return;
                    }
                    continue;
                }
                b'[' | b'{' => depth += 1,
                b']' | b'}' | b',' if depth == 0 => return,
                b']' | b'}' => {
                    depth -= 1;
                    if depth == 0 {
                        self.at += 1;
                        return;
                    }
                }
                _ => {}
            }
            self.at += 1;
        }
    }

    /// Moves to a part of the value here; returns whether there is one.
    fn enter(&mut self, step: &Step) -> bool {
        let (open, close) = match step {
            Step::Member(_) => (b'{', b'}'),
            Step::Element(_) => (b'[', b']'),
        };
        if !self.next_is(open) {
            return false;
        }
        self.at += 1;
        let (mut found, mut number) = (None, 0);
        while self.at < self.text.len() && !self.next_is(close) {
            let is_wanted = match step {
                Step::Member(name) => {
                    let (begin, end) = self.string();
                    let read = serde_json::from_slice::<String>(&self.text[begin..end]);
                    if self.next_is(b':') {
                        self.at += 1;
                    }
                    read.is_ok_and(|member| member == *name)
                }
                Step::Element(wanted) => number == *wanted,
            };
            self.space();
            if is_wanted {
                // Of two members with the same name, the last one counts.
                found = Some(self.at);
            }
            self.value();
            number += 1;
            if self.next_is(b',') {
                self.at += 1;
                self.space();
            }
        }
        self.at = found.unwrap_or(self.at);
        found.is_some()
    }
}

/// The line and column (in bytes, from 1) of a part of a valid JSON text; where its steps end
/// early, that of the last part that is there.
pub(crate) fn position_of(text: &str, steps: &[Step]) -> (usize, usize) {
    let mut scan = Scan { text: text.as_bytes(), at: 0 };
    scan.space();
    let mut at = scan.at;
    for step in steps {
        if !scan.enter(step) {
            break;
        }
        at = scan.at;
    }
    let before = &text.as_bytes()[..at.min(text.len())];
    let line = before.iter().filter(|byte| **byte == b'\n').count() + 1;
    let begin = before.iter().rposition(|byte| *byte == b'\n').map_or(0, |at| at + 1);
    (line, before.len() - begin + 1)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;
    use serde_json::Value;

    use super::*;

    fn member(name: &str) -> Step {
        Step::Member(name.to_owned())
    }

    #[rstest]
    #[case("{\"a\": 1}", &[member("a")], (1, 7))]
    #[case("{\"b\": [1, {\"}\": \"]\"}, 3],\n \"a\": {\"c\":\n true}}", &[member("a"), member("c")], (3, 2))]
    #[case("[1, [2, 3], \"x,\\\"]\", 4]", &[Step::Element(3)], (1, 22))]
    #[case("{\"a\": 1, \"a\": 2}", &[member("a")], (1, 15))]
    #[case("{\"\\u0061\": 1}", &[member("a")], (1, 12))]
    #[case("  7", &[], (1, 3))]
    #[case("{\"a\": 1}", &[member("b")], (1, 1))]
    #[case("[]", &[Step::Element(0)], (1, 1))]
    fn parts_are_found(#[case] text: &str, #[case] steps: &[Step], #[case] at: (usize, usize)) {
        assert_eq!(position_of(text, steps), at);
    }

    fn json() -> impl Strategy<Value = Value> {
        let leaf = prop_oneof![
            Just(Value::Null),
            any::<i32>().prop_map(Value::from),
            ".{0,6}".prop_map(Value::from)
        ];
        leaf.prop_recursive(4, 40, 5, |inner| {
            prop_oneof![
                prop::collection::vec(inner.clone(), 0..5).prop_map(Value::from),
                prop::collection::btree_map(".{0,4}", inner, 0..5)
                    .prop_map(|map| Value::Object(map.into_iter().collect())),
            ]
        })
    }

    /// Every part of a value, with the steps to it.
    fn parts<'v>(value: &'v Value, steps: &[Step], all: &mut Vec<(Vec<Step>, &'v Value)>) {
        all.push((steps.to_vec(), value));
        let further = |step| [steps, &[step]].concat();
        match value {
            Value::Array(elements) => (0..).zip(elements).for_each(|(at, element)| {
                parts(element, &further(Step::Element(at)), all);
            }),
            Value::Object(members) => members.iter().for_each(|(name, member)| {
                parts(member, &further(Step::Member(name.clone())), all);
            }),
            _ => {}
        }
    }

    proptest! {
        #[test]
        fn every_part_begins_at_its_position(value in json(), pretty: bool) {
            let text = match pretty {
                true => serde_json::to_string_pretty(&value).unwrap(),
                false => value.to_string(),
            };
            let mut all = Vec::new();
            parts(&value, &[], &mut all);
            for (steps, part) in all {
                let (line, column) = position_of(&text, &steps);
                let begin: usize = text.split_inclusive('\n').take(line - 1).map(str::len).sum();
                let mut values = serde_json::Deserializer::from_str(&text[begin + column - 1..])
                    .into_iter::<Value>();
                let read = values.next().unwrap();
                prop_assert_eq!(&read.unwrap(), part);
            }
        }
    }
}
