//! End-to-end tests, each in a network namespace of its own.

mod console;
mod decode;
mod folders;
mod proof;
mod recovery;
mod standing;
mod startup;
mod walkthrough;
mod wire;
