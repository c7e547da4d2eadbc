//! Objects with named members.

use std::fmt;
use std::marker::PhantomData;

use serde::de::value::MapAccessDeserializer;
use serde::de::{Deserialize, Deserializer, MapAccess, Visitor};

/// A request body that must be a JSON object. A derived `Deserialize` would also accept an array of
/// the members.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Object<T>(pub T);

impl<'de, T: Deserialize<'de>> Deserialize<'de> for Object<T> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Members<T>(PhantomData<T>);

        impl<'de, T: Deserialize<'de>> Visitor<'de> for Members<T> {
            type Value = Object<T>;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("an object")
            }

            fn visit_map<A: MapAccess<'de>>(self, members: A) -> Result<Object<T>, A::Error> {
                T::deserialize(MapAccessDeserializer::new(members)).map(Object)
            }
        }

        deserializer.deserialize_map(Members(PhantomData))
    }
}

/// Reads a member that is an object.
pub(crate) fn object<'de, T: Deserialize<'de>, D: Deserializer<'de>>(
    deserializer: D,
) -> Result<T, D::Error> {
    Object::deserialize(deserializer).map(|Object(shape)| shape)
}

/// Reads a member that is an object or `null`.
pub(crate) fn object_or_null<'de, T: Deserialize<'de>, D: Deserializer<'de>>(
    deserializer: D,
) -> Result<Option<T>, D::Error> {
    let there = Option::<Object<T>>::deserialize(deserializer)?;
    Ok(there.map(|Object(shape)| shape))
}

/// Distinguishes a member that is `null` from an absent one.
pub(crate) mod given {
    use serde::{Deserialize, Deserializer, Serialize, Serializer};

    pub(crate) fn serialize<T: Serialize, S: Serializer>(
        value: &Option<Option<T>>,
        serializer: S,
    ) -> Result<S::Ok, S::Error> {
        value.as_ref().and_then(Option::as_ref).serialize(serializer)
    }

    pub(crate) fn deserialize<'de, T: Deserialize<'de>, D: Deserializer<'de>>(
        deserializer: D,
    ) -> Result<Option<Option<T>>, D::Error> {
        Option::<T>::deserialize(deserializer).map(Some)
    }
}

/// As [`given`], for a member that is an object.
pub(crate) mod given_object {
    use serde::{Deserialize, Deserializer};

    pub(crate) use super::given::serialize;

    pub(crate) fn deserialize<'de, T: Deserialize<'de>, D: Deserializer<'de>>(
        deserializer: D,
    ) -> Result<Option<Option<T>>, D::Error> {
        super::object_or_null(deserializer).map(Some)
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::{BatchRequest, CreateNamespace, CreateOrigin, OriginChange, PolicyChange};

    fn reads<'j, T: Deserialize<'j>>(json: &'j str) -> Result<T, String> {
        serde_json::from_str::<Object<T>>(json).map(|Object(t)| t).map_err(|e| e.to_string())
    }

    #[rstest]
    #[case(reads::<PolicyChange>("[]").map(drop))]
    #[case(reads::<PolicyChange>(r#"{"origin":["stand-in",null]}"#).map(drop))]
    #[case(reads::<CreateNamespace>(r#"{"name":"boards","policy":[null,null]}"#).map(drop))]
    #[case(reads::<CreateOrigin>(r#"{"name":"o","url":"http://h/{key}","guard":[1]}"#).map(drop))]
    #[case(reads::<OriginChange>(r#"{"pool":[[],null]}"#).map(drop))]
    #[case(reads::<OriginChange>(r#"{"sql":[]}"#).map(drop))]
    #[case(reads::<BatchRequest>(r#"{"operations":[{"put":["k","v"]}]}"#).map(drop))]
    fn an_array_is_no_shape(#[case] read: Result<(), String>) {
        assert!(read.unwrap_err().contains("expected an object"));
    }

    #[test]
    fn objects_deserialize_like_plain_structs() {
        let json = r#"{"name":"boards","policy":{"max_age_seconds":5,"origin":{"name":"o"}}}"#;
        let created = reads::<CreateNamespace>(json).unwrap();
        assert_eq!(created.policy.max_age_seconds, Some(5.0));
        assert_eq!(created.policy.origin.unwrap().unwrap().name, "o");
        let json = r#"{"guard":{"failure_threshold":3},"pool":null}"#;
        let changed = reads::<OriginChange>(json).unwrap();
        assert_eq!((changed.guard.unwrap().failure_threshold, changed.pool), (Some(3), None));
        let error = reads::<CreateNamespace>(r#"{"name":"b","polcy":{}}"#).unwrap_err();
        assert!(error.contains("unknown field `polcy`"), "{error}");
        assert_eq!(reads::<PolicyChange>("{}").unwrap(), PolicyChange::default());
    }
}
