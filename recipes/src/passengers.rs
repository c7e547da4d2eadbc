//! Read, compute, store: only if nobody has changed the entry since it was read.

use verax_client::{Cache, ClientError, FailureKind, PutCondition, PutOptions};

/// Adds a passenger to the list of a sailing, however many do so at the same time.
///
/// # Errors
/// [`ClientError`].
pub async fn add_passenger(
    lists: &Cache,
    sailing: &str,
    passenger: &str,
) -> Result<(), ClientError> {
    let key = format!("passengers/{sailing}");
    loop {
        let read = lists.get_revised(&key).await?;
        let (mut list, condition) = match &read {
            Some(hit) => (hit.value.to_vec(), hit.revision.map(PutCondition::IfRevision)),
            None => (Vec::new(), Some(PutCondition::IfAbsent)),
        };
        list.extend_from_slice(passenger.as_bytes());
        list.push(b'\n');
        let condition = condition.unwrap_or_default();
        let options = PutOptions { condition, ..PutOptions::default() };
        match lists.put(&key, &list, options).await {
            Ok(_) => return Ok(()),
            // Somebody else was first: once more, from what they stored.
            Err(error) if error.failure() == Some(FailureKind::ConditionFailed) => {}
            Err(error) => return Err(error),
        }
    }
}
