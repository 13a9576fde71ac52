//! What several commands print.

pub(crate) mod axis;
pub(crate) mod canvas;
pub(crate) mod diagram;
pub(crate) mod figure;
pub(crate) mod forms;
pub(crate) mod grid;
pub(crate) mod live;
pub(crate) mod number;
pub(crate) mod requests;
pub(crate) mod rows;
pub(crate) mod seen;
pub(crate) mod status;
pub(crate) mod steps;
pub(crate) mod suspects;
pub(crate) mod timing;
pub(crate) mod writes;
