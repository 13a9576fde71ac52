//! Ways to ask.
