//! What every store has to do, whichever database it is.

mod apart;
mod corrections;
mod groups;
mod kit;
mod one_file;
mod statements;
