//! The command line of Verax, and the commands that talk to a service.
//!
//! [`CommandLine`] is what a user asks for: [`serve`](CommandLine::Serve) and
//! [`demo`](CommandLine::Demo) are carried out by the program, which has the service; every other
//! command is a [`ClientCommand`] and talks to a service through the client library. A [`Failure`]
//! is a message and an exit code.
//!
//! ```no_run
//! use verax_cli::CommandLine;
//!
//! # async fn example() -> Result<(), verax_cli::Failure> {
//! match CommandLine::parse() {
//!     CommandLine::Client(command) => command.run().await,
//!     _ => Err(verax_cli::Failure::failed("this program has no service")),
//! }
//! # }
//! ```

mod arguments;
mod commands;
mod environment;
mod failure;
mod figures;
mod output;
mod profile_file;
mod text;

use std::ffi::OsString;

use clap::Parser;
use futures_util::future::LocalBoxFuture;

use arguments::{Arguments, Command, LoadCommand, WorkerOptions};

pub use arguments::{DemoOptions, ServeOptions, ServiceFlags, size};
pub use environment::environment;
pub use failure::Failure;
pub use profile_file::read_profile;

/// What a command line asks for.
#[derive(Debug)]
pub enum CommandLine {
    /// Start the service.
    Serve(Box<ServeOptions>),
    /// Start the service with the demo's data.
    Demo(Box<DemoOptions>),
    /// Talk to a service.
    Client(ClientCommand),
}

impl CommandLine {
    /// Reads the process's own command line; help and wrong usage end the process.
    pub fn parse() -> Self {
        Self::parse_from(std::env::args_os())
    }

    /// Reads a command line, which begins with the name of the program; help and wrong usage end
    /// the process.
    pub fn parse_from(words: impl IntoIterator<Item = impl Into<OsString> + Clone>) -> Self {
        let Arguments { connection, command } = Arguments::parse_from(words);
        match command {
            Command::Serve(options) => Self::Serve(Box::new(options)),
            Command::Demo(options) => Self::Demo(Box::new(options)),
            command => Self::Client(ClientCommand(Box::new(Arguments { connection, command }))),
        }
    }
}

/// A command that talks to a service.
#[derive(Debug)]
pub struct ClientCommand(Box<Arguments>);

impl ClientCommand {
    /// Carries it out, and prints its answer.
    ///
    /// # Errors
    /// [`Failure`], whose message is not printed yet.
    pub fn run(self) -> LocalBoxFuture<'static, Result<(), Failure>> {
        // In a box, so that the program does not compile all commands again.
        Box::pin(async move {
            let Arguments { connection, command } = *self.0;
            match command {
                Command::Load(LoadCommand::Worker(WorkerOptions { piped: true, .. })) => {
                    commands::piped_load_worker().await
                }
                command => commands::run(command, &connection).await,
            }
        })
    }
}
