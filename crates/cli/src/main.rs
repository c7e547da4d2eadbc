//! The `verax` command: `serve` and `demo` start the service, everything else talks to one.
//!
//! * [`arguments`] is the command line; [`settings`] resolves files, environment and flags.
//! * [`start`] puts the service together: data directory, records, HTTP, load runs, demo.
//! * [`commands`] carries out the rest through the client library.
//! * [`failure`] turns errors into a message and an exit code.

mod arguments;
mod commands;
mod failure;
mod figures;
mod logging;
mod output;
mod profile_file;
mod settings;
mod start;
mod text;

use std::process::ExitCode;
use std::time::Duration;

use clap::Parser;

use arguments::{Arguments, Command, LoadCommand, WorkerOptions};
use failure::Failure;

/// How long the end of the process waits for work that blocks.
const SHUTDOWN_TIMEOUT: Duration = Duration::from_millis(500);

fn main() -> ExitCode {
    verax_service::set_up_allocator();
    let arguments = Arguments::parse();
    match run(arguments) {
        Ok(()) => ExitCode::SUCCESS,
        Err(failure) => {
            failure.tell();
            failure.exit_code()
        }
    }
}

fn run(arguments: Arguments) -> Result<(), Failure> {
    // The service uses every core; a client command needs one.
    let mut builder = match arguments.command {
        Command::Serve(_) | Command::Demo(_) => tokio::runtime::Builder::new_multi_thread(),
        _ => tokio::runtime::Builder::new_current_thread(),
    };
    let runtime = builder.enable_all().build().map_err(|e| Failure::failed(e.to_string()))?;
    let done = runtime.block_on(async {
        match arguments.command {
            Command::Serve(options) => start::serve(options).await,
            Command::Demo(options) => start::demo(options).await,
            Command::Load(LoadCommand::Worker(WorkerOptions { piped: true, .. })) => {
                commands::piped_load_worker().await
            }
            command => commands::run(command, &arguments.connection).await,
        }
    });
    // What still blocks a thread, as a hung file system does, does not hold up the end.
    runtime.shutdown_timeout(SHUTDOWN_TIMEOUT);
    done
}
