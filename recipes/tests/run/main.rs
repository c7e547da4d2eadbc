//! The recipes, run, and as docs/recipes.md shows them.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod documents;
mod recipes;
