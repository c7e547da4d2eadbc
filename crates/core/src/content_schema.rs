//! A schema that the JSON values of a namespace must match (JSON Schema, draft 2020-12).
//!
//! Whoever manages a namespace writes its schema, and every write pays for it. So the work is
//! bounded before a schema is taken: it refers only to its own definitions, never to itself in a
//! circle, and is small when all references are written out; and a value that is too large for it
//! is refused.

use std::collections::BTreeMap;
use std::fmt;
use std::sync::Arc;

use boon::{Compiler, SchemaIndex, Schemas, UrlLoader, ValidationError};
use regex::RegexBuilder;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use serde_json::Value;

use crate::content::{ContentRule, Damage};
use crate::json_position::{Step, position_of};

/// The largest schema, in bytes.
pub const MAX_SCHEMA_BYTES: usize = 32 << 10;

/// The most parts of a schema, with references written out.
const MAX_PARTS: usize = 1_000;

/// The most combinations of parts of the schema and parts of a value.
const MAX_WORK: usize = 20_000_000;

/// The most parts of a value: each takes memory, and more if it does not match.
const MAX_VALUE_PARTS: usize = 200_000;

/// The most memory of a compiled pattern, in bytes.
const MAX_PATTERN_BYTES: usize = 64 << 10;

/// The most nested parts.
const MAX_DEPTH: usize = 64;

/// The address of the schema; nothing is loaded from there.
const ADDRESS: &str = "urn:verax:content-schema";

/// Why a schema is refused.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum InvalidSchema {
    /// It is too large.
    #[error("the schema has {0} bytes, more than the limit of {MAX_SCHEMA_BYTES}")]
    TooLarge(usize),
    /// It is no JSON.
    #[error("the schema is no JSON: {0}")]
    NotJson(Damage),
    /// A reference that is not to a definition of its own.
    #[error(
        "the schema refers to {0:?}: only \"#/$defs/NAME\" can be referred to, and no other schema"
    )]
    Reference(String),
    /// A circle of references.
    #[error("the schema refers to itself in a circle by way of {0:?}: write the levels out")]
    Circle(String),
    /// A keyword that would make references hard to bound.
    #[error("the schema has the keyword {0:?}, which is not supported here")]
    Keyword(String),
    /// Too many parts.
    #[error(
        "the schema has more than {MAX_PARTS} parts when its references are written out, or more than {MAX_DEPTH} levels"
    )]
    TooManyParts,
    /// A pattern that cannot be, or that is too large.
    #[error("the pattern {0:?} of the schema is no regular expression, or too large a one")]
    Pattern(String),
    /// It is no schema.
    #[error("{0}")]
    NotSchema(String),
}

/// A schema, compiled.
#[derive(Clone)]
pub struct ContentSchema {
    text: Arc<str>,
    compiled: Arc<Compiled>,
}

struct Compiled {
    schemas: Schemas,
    root: SchemaIndex,
    /// How many parts it has with references written out.
    parts: usize,
}

/// Loads nothing.
struct NoLoader;

impl UrlLoader for NoLoader {
    fn load(&self, url: &str) -> Result<Value, Box<dyn std::error::Error>> {
        Err(format!("{url} is not loaded").into())
    }
}

/// Counts the parts of a schema.
struct Counter<'v> {
    definitions: BTreeMap<String, &'v Value>,
    /// The references that are being written out.
    open: Vec<String>,
    parts: usize,
}

impl<'v> Counter<'v> {
    fn count(&mut self, value: &'v Value, depth: usize) -> Result<(), InvalidSchema> {
        self.parts += 1;
        if self.parts > MAX_PARTS || depth > MAX_DEPTH {
            return Err(InvalidSchema::TooManyParts);
        }
        match value {
            Value::Array(all) => all.iter().try_for_each(|one| self.count(one, depth + 1)),
            Value::Object(members) => {
                for (name, member) in members {
                    match (name.as_str(), member) {
                        // They count where they are referred to.
                        ("$defs" | "definitions", _) => {}
                        ("$ref", Value::String(to)) => self.follow(to, depth)?,
                        (
                            "$id" | "$anchor" | "$dynamicRef" | "$dynamicAnchor" | "$recursiveRef"
                            | "$recursiveAnchor" | "id",
                            Value::String(_) | Value::Bool(_),
                        ) => return Err(InvalidSchema::Keyword(name.clone())),
                        ("pattern", Value::String(pattern)) => check_pattern(pattern)?,
                        ("patternProperties", Value::Object(patterns)) => {
                            patterns.keys().try_for_each(|pattern| check_pattern(pattern))?;
                            self.count(member, depth + 1)?;
                        }
                        _ => self.count(member, depth + 1)?,
                    }
                }
                Ok(())
            }
            _ => Ok(()),
        }
    }

    fn follow(&mut self, to: &str, depth: usize) -> Result<(), InvalidSchema> {
        let Some(definition) = self.definitions.get(to).copied() else {
            return Err(InvalidSchema::Reference(to.to_owned()));
        };
        if self.open.iter().any(|open| open == to) {
            return Err(InvalidSchema::Circle(to.to_owned()));
        }
        self.open.push(to.to_owned());
        self.count(definition, depth + 1)?;
        self.open.pop();
        Ok(())
    }
}

fn check_pattern(pattern: &str) -> Result<(), InvalidSchema> {
    let built = RegexBuilder::new(pattern).size_limit(MAX_PATTERN_BYTES).build();
    built.map(drop).map_err(|_| InvalidSchema::Pattern(pattern.chars().take(80).collect()))
}

/// The parts of a schema with references written out.
fn parts_of(schema: &Value) -> Result<usize, InvalidSchema> {
    let mut definitions = BTreeMap::new();
    for name in ["$defs", "definitions"] {
        if let Some(Value::Object(all)) = schema.get(name) {
            definitions.extend(all.iter().map(|(key, one)| {
                let escaped = key.replace('~', "~0").replace('/', "~1");
                (format!("#/{name}/{escaped}"), one)
            }));
        }
    }
    let all: Vec<&Value> = definitions.values().copied().collect();
    let mut counter = Counter { definitions, open: Vec::new(), parts: 0 };
    counter.count(schema, 0)?;
    let parts = counter.parts;
    // Definitions that nothing refers to must hold, too.
    for definition in all {
        counter.parts = 0;
        counter.count(definition, 0)?;
    }
    Ok(parts)
}

/// How many parts a valid JSON text has, or one more for each empty array and object, without
/// parsing it.
fn parts_of_text(text: &str) -> usize {
    let (mut parts, mut in_string, mut is_escaped) = (1, false, false);
    for byte in text.bytes() {
        match byte {
            _ if is_escaped => is_escaped = false,
            b'\\' if in_string => is_escaped = true,
            b'"' => in_string = !in_string,
            b',' | b'[' | b'{' if !in_string => parts += 1,
            _ => {}
        }
    }
    parts
}

impl ContentSchema {
    /// Compiles a schema.
    ///
    /// # Errors
    /// [`InvalidSchema`].
    ///
    /// ```
    /// use verax_core::content_schema::ContentSchema;
    ///
    /// let schema = r#"{"properties": {"delay": {"type": "integer", "minimum": 0}}}"#;
    /// let schema = ContentSchema::parse(schema)?;
    /// assert!(schema.check(br#"{"delay": 7}"#).is_ok());
    /// let damage = schema.check(b"{\n  \"delay\": -7\n}").unwrap_err();
    /// assert_eq!((damage.line, damage.column), (2, 12));
    /// # Ok::<(), verax_core::content_schema::InvalidSchema>(())
    /// ```
    pub fn parse(text: &str) -> Result<Self, InvalidSchema> {
        if text.len() > MAX_SCHEMA_BYTES {
            return Err(InvalidSchema::TooLarge(text.len()));
        }
        ContentRule::Json.check(text.as_bytes()).map_err(InvalidSchema::NotJson)?;
        let not_schema = |error: &dyn fmt::Display| InvalidSchema::NotSchema(error.to_string());
        let value: Value = serde_json::from_str(text).map_err(|error| not_schema(&error))?;
        let parts = parts_of(&value)?;
        let mut compiler = Compiler::new();
        compiler.use_loader(Box::new(NoLoader));
        compiler.add_resource(ADDRESS, value).map_err(|error| not_schema(&error))?;
        let mut schemas = Schemas::new();
        let root = compiler.compile(ADDRESS, &mut schemas).map_err(|error| {
            InvalidSchema::NotSchema(format!("{error:#}").replace(ADDRESS, "#"))
        })?;
        Ok(Self { text: text.into(), compiled: Arc::new(Compiled { schemas, root, parts }) })
    }

    /// Its text.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// Checks a value.
    ///
    /// # Errors
    /// [`Damage`] tells the first place where it does not match.
    pub fn check(&self, value: &[u8]) -> Result<(), Damage> {
        ContentRule::Json.check(value)?;
        let whole = |reason: &str| Damage { line: 1, column: 1, reason: reason.to_owned() };
        let Ok(text) = std::str::from_utf8(value) else { return Err(whole("it is not UTF-8")) };
        let parts = parts_of_text(text);
        if parts > MAX_VALUE_PARTS || parts.saturating_mul(self.compiled.parts) > MAX_WORK {
            return Err(whole("it has too many parts to be held against the schema"));
        }
        // What is JSON may still have numbers that a program cannot hold.
        let parsed: Value =
            serde_json::from_str(text).map_err(|error| whole(&error.to_string()))?;
        let Compiled { schemas, root, .. } = &*self.compiled;
        schemas.validate(&parsed, *root).map_err(|error| {
            let first = first_cause(&error);
            let steps: Vec<Step> = first
                .instance_location
                .tokens
                .iter()
                .map(|token| match token {
                    boon::InstanceToken::Prop(name) => Step::Member(name.to_string()),
                    boon::InstanceToken::Item(at) => Step::Element(*at),
                })
                .collect();
            let (line, column) = position_of(text, &steps);
            let place = first.instance_location.to_string();
            let place = if place.is_empty() { "the value".to_owned() } else { place };
            let reason: String = format!("{place}: {}", first.kind).chars().take(300).collect();
            Damage { line, column, reason }
        })
    }
}

/// The first cause that has no cause of its own.
fn first_cause<'e>(error: &'e ValidationError<'e, 'e>) -> &'e ValidationError<'e, 'e> {
    error.causes.first().map_or(error, |cause| first_cause(cause))
}

impl fmt::Debug for ContentSchema {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("ContentSchema").field(&self.text).finish()
    }
}

impl PartialEq for ContentSchema {
    fn eq(&self, other: &Self) -> bool {
        self.text == other.text
    }
}

impl Eq for ContentSchema {}

impl Serialize for ContentSchema {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&self.text)
    }
}

impl<'de> Deserialize<'de> for ContentSchema {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        Self::parse(&String::deserialize(deserializer)?).map_err(serde::de::Error::custom)
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    const BOARD: &str = r##"{
        "type": "object", "required": ["harbor", "departures"],
        "properties": {
            "harbor": {"type": "string", "pattern": "^[a-z]+$"},
            "departures": {"type": "array", "items": {"$ref": "#/$defs/departure"}}
        },
        "$defs": {"departure": {"type": "object", "properties": {"delay": {"type": "integer", "minimum": 0}}}}
    }"##;

    #[rstest]
    #[case(r#"{"harbor": "saltmere", "departures": [{"delay": 3}]}"#, None)]
    #[case(r#"{"harbor": "Salt mere", "departures": []}"#, Some((1, 12)))]
    #[case("{\"harbor\": \"saltmere\", \"departures\": [\n{\"delay\": 3},\n{\"delay\": -1}]}", Some((3, 11)))]
    #[case(r#"{"harbor": "saltmere"}"#, Some((1, 1)))]
    #[case("[]", Some((1, 1)))]
    #[case("{\"harbor\":", Some((1, 10)))]
    #[case("\u{fffd}", Some((1, 1)))]
    fn values_are_held_against_the_schema(#[case] value: &str, #[case] at: Option<(usize, usize)>) {
        let schema = ContentSchema::parse(BOARD).unwrap();
        let damage = schema.check(value.as_bytes()).err();
        assert_eq!(damage.as_ref().map(|damage| (damage.line, damage.column)), at, "{damage:?}");
        let text = serde_json::to_string(&schema).unwrap();
        assert_eq!(serde_json::from_str::<ContentSchema>(&text).unwrap(), schema);
    }

    #[rstest]
    #[case::no_json("{", "no JSON")]
    #[case::no_schema(r#"{"type": "board"}"#, "type")]
    #[case::elsewhere(r##"{"$ref": "https://example.org/schema"}"##, "refers to")]
    #[case::file(r##"{"$ref": "file:///etc/hostname"}"##, "refers to")]
    #[case::unknown(r##"{"$ref": "#/$defs/none"}"##, "refers to")]
    #[case::itself(r##"{"properties": {"a": {"$ref": "#"}}}"##, "refers to")]
    #[case::circle(r##"{"$defs": {"a": {"items": {"$ref": "#/$defs/b"}}, "b": {"not": {"$ref": "#/$defs/a"}}}, "$ref": "#/$defs/a"}"##, "circle")]
    #[case::unused_circle(r##"{"$defs": {"a": {"items": {"$ref": "#/$defs/a"}}}}"##, "circle")]
    #[case::identifier(r#"{"$id": "https://example.org/a"}"#, "$id")]
    #[case::dynamic(r##"{"$dynamicRef": "#a"}"##, "$dynamicRef")]
    #[case::pattern(r#"{"pattern": "("}"#, "pattern")]
    #[case::large_pattern(r#"{"pattern": "(a{1000}){1000}"}"#, "pattern")]
    #[case::large_key(r#"{"patternProperties": {"(a{1000}){1000}": {}}}"#, "pattern")]
    fn what_could_not_be_bounded_is_refused(#[case] text: &str, #[case] why: &str) {
        let error = ContentSchema::parse(text).unwrap_err().to_string();
        assert!(error.contains(why), "{error}");
    }

    #[test]
    fn the_work_is_bounded() {
        // Each definition refers to the next twice: small to write, large when written out.
        let doubled = |levels: usize| {
            let definitions: Vec<String> = (0..levels)
                .map(|n| {
                    let next = format!("{{\"$ref\": \"#/$defs/d{}\"}}", n + 1);
                    format!("\"d{n}\": {{\"allOf\": [{next}, {next}]}}")
                })
                .collect();
            let definitions = definitions.join(", ");
            format!(
                "{{\"$defs\": {{{definitions}, \"d{levels}\": true}}, \"$ref\": \"#/$defs/d0\"}}"
            )
        };
        assert!(ContentSchema::parse(&doubled(5)).is_ok());
        assert_eq!(ContentSchema::parse(&doubled(30)).unwrap_err(), InvalidSchema::TooManyParts);
        let deep = format!("{}true{}", "{\"not\": ".repeat(100), "}".repeat(100));
        assert_eq!(ContentSchema::parse(&deep).unwrap_err(), InvalidSchema::TooManyParts);
        let padded = |bytes: usize| format!("{{}}{}", " ".repeat(bytes - 2));
        assert!(ContentSchema::parse(&padded(MAX_SCHEMA_BYTES)).is_ok());
        let error = ContentSchema::parse(&padded(MAX_SCHEMA_BYTES + 1)).unwrap_err();
        assert_eq!(error, InvalidSchema::TooLarge(MAX_SCHEMA_BYTES + 1));

        let parts = vec!["{\"type\": \"number\"}"; 200].join(", ");
        let heavy =
            ContentSchema::parse(&format!("{{\"items\": {{\"allOf\": [{parts}]}}}}")).unwrap();
        let numbers = |count: usize| format!("[{}1]", "1,".repeat(count - 1));
        assert!(heavy.check(numbers(1_000).as_bytes()).is_ok());
        let refused = heavy.check(numbers(200_000).as_bytes()).unwrap_err();
        assert!(refused.reason.contains("too many parts"), "{refused}");
        // A small schema is no leave for any value: what does not match takes memory, too.
        let light = ContentSchema::parse(r#"{"items": {"type": "number"}}"#).unwrap();
        assert!(light.check(numbers(MAX_VALUE_PARTS - 1).as_bytes()).is_ok());
        let refused = light.check(numbers(MAX_VALUE_PARTS).as_bytes()).unwrap_err();
        assert!(refused.reason.contains("too many parts"), "{refused}");
        assert_eq!(parts_of_text(r#"{"a": [1, "x,[{\",", []], "b": {}}"#), 8);
    }
}
