//! Starting and stopping the service.

mod bootstrap;
mod data_directory;
mod demo;
mod descriptors;
mod drill_runner;
mod load_runner;
mod pair;
mod ready_file;
mod serve;

pub(crate) use demo::demo;
pub(crate) use serve::serve;
