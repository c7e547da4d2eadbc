//! Batches of gets, puts and deletes.

use std::sync::Arc;

use verax_control::ControlError;
use verax_engine::TraceContext;
use verax_engine::cache::{Operation, Outcome, Stored};
use verax_service::Service;
use verax_wire::{BatchOperations, BatchReplies, Frame, Reply, Request};

use super::entries::{read_options, revised};
use super::outbox::Encoded;
use super::session::{Session, fail};
use super::values::{ValueFields, key, put_request, value_of};
use crate::failure::Failure;

impl Session {
    pub(super) fn batch(
        &mut self,
        frame: Frame,
        requests: &BatchOperations<'_>,
    ) -> Result<(), Failure> {
        // A malformed operation fails in its place; the others are executed.
        let operations: Vec<_> =
            requests.iter().map(|request| operation(request, self.trace.as_ref())).collect();
        let fields: Vec<ValueFields> = requests.iter().map(fields).collect();
        let opened = self.opened(frame.namespace)?;
        let (access, budget) = (opened.batch_access(), opened.in_flight().cloned());
        let (service, replies) = (Arc::clone(&self.service), self.replies.clone());
        self.carry_out(frame, async move {
            let (mut understood, mut places) = (Vec::new(), Vec::new());
            for operation in operations {
                places.push(operation.map(|operation| understood.push(operation)).err());
            }
            let mut outcomes = access.carry_out(understood).await.into_iter();
            let outcomes: Vec<Result<Outcome<ControlError>, Failure>> = places
                .into_iter()
                .filter_map(|refused| refused.map(Err).or_else(|| outcomes.next().map(Ok)))
                .collect();
            let mut encoded = Encoded::default();
            let size = outcomes.iter().flatten().map(size).sum();
            let reserved = replies.reserve_all(size).and_then(|mut reservation| {
                reservation.join(budget.unwrap_or_else(|| replies.clone()).reserve_all(size)?);
                Ok(reservation)
            });
            match reserved {
                Ok(reservation) => encoded.reservation = reservation,
                Err(error) => {
                    fail(frame, &error.into(), &mut encoded.frames);
                    return encoded;
                }
            }
            let failures: Vec<Option<Failure>> =
                outcomes.iter().map(|outcome| outcome.as_ref().ok().and_then(failure_of)).collect();
            let tags: Vec<Vec<&str>> =
                outcomes.iter().map(|outcome| outcome.as_ref().map_or(vec![], tags_of)).collect();
            let replies: Vec<Reply<'_>> = outcomes
                .iter()
                .zip(&failures)
                .zip(tags.iter().zip(fields))
                .map(|((outcome, failure), (tags, fields))| match outcome {
                    Ok(outcome) => reply(&service, outcome, failure.as_ref(), fields, tags),
                    Err(refused) => refused.reply(),
                })
                .collect();
            Reply::Batch(BatchReplies::of(&replies)).encode(frame, &mut encoded.frames);
            encoded
        })
    }
}

fn operation(request: Request<'_>, trace: Option<&TraceContext>) -> Result<Operation, Failure> {
    match request {
        Request::Get { key: text, flags } => {
            Ok(Operation::Get(key(text)?, read_options(flags, trace.cloned())))
        }
        Request::Put(put) => Ok(Operation::Put(key(put.key)?, put_request(&put)?)),
        Request::Delete { key: text } => Ok(Operation::Delete(key(text)?)),
        _ => Err(Failure::invalid("a batch holds look-ups, puts and deletes")),
    }
}

fn fields(request: Request<'_>) -> ValueFields {
    match request {
        Request::Get { flags, .. } => flags.into(),
        Request::Put(put) => ValueFields { revision: put.tell_revision, details: false },
        _ => ValueFields::default(),
    }
}

/// How many bytes of values an outcome has.
fn size(outcome: &Outcome<ControlError>) -> usize {
    match outcome {
        Outcome::Got(Ok(Some(answer))) => answer.size(),
        _ => 0,
    }
}

fn failure_of(outcome: &Outcome<ControlError>) -> Option<Failure> {
    match outcome {
        Outcome::Got(Err(error)) | Outcome::Put(Err(error)) | Outcome::Deleted(Err(error)) => {
            Some(error.clone().into())
        }
        _ => None,
    }
}

fn tags_of(outcome: &Outcome<ControlError>) -> Vec<&str> {
    match outcome {
        Outcome::Got(Ok(Some(answer))) => answer.entry.tags.iter().map(|tag| &**tag).collect(),
        _ => Vec::new(),
    }
}

/// The reply to one operation of a batch; `tags` are those of the entry it found.
fn reply<'a>(
    service: &Service,
    outcome: &'a Outcome<ControlError>,
    failure: Option<&'a Failure>,
    fields: ValueFields,
    tags: &'a [&'a str],
) -> Reply<'a> {
    match (outcome, failure) {
        (_, Some(failure)) => failure.reply(),
        (Outcome::Got(Ok(Some(answer))), _) => {
            Reply::Value(value_of(service, answer, fields, tags))
        }
        (Outcome::Put(Ok(stored)), _) if fields.revision => revised(stored),
        (
            Outcome::Put(Ok(Stored { replaced: was_there, .. })) | Outcome::Deleted(Ok(was_there)),
            _,
        ) => Reply::done(*was_there),
        _ => Reply::Miss,
    }
}
