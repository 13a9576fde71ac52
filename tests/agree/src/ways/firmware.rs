//! firmware
