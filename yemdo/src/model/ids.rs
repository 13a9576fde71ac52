//! The places of a part's things: a type for each kind.

use crate::ground::list::ids;

ids! {
    /// A frame of a part.
    FrameId;
    /// A code of a frame.
    CodeId;
    /// A reading, or a value that readings share.
    ReadingId;
    /// A field of registers.
    FieldId;
    /// A column of a field's table.
    ColumnId;
    /// A register.
    RegisterId;
    /// A number that the user supplies.
    ParameterId;
    /// A physical value that fields hold.
    QuantityId;
    /// A routine.
    RoutineId;
}
