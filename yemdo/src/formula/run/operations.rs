//! What every operation does, as one table for all ways of running a program: over columns of frames, and for one.

/// Chooses the function of an operation and the kinds of its result and its operands, and hands them to the macro
/// `$apply`. Operations that are none of these are left to `$other`; each is listed, so that a new one has to be put
/// somewhere. No function takes anything along, so that it can be pointed at.
macro_rules! operations {
    ($op:expr, $apply:ident, $other:expr) => {
        match $op.what {
            Opcode::Add(N::I32) => $apply!(int32::add, I32, I32, I32),
            Opcode::Add(N::U32) => $apply!(|x: i32, y| ok(x.wrapping_add(y)), I32, I32, I32),
            Opcode::Add(N::I64) => $apply!(int64::add, I64, I64, I64),
            Opcode::Add(N::U64) => $apply!(|x: i64, y| ok(x.wrapping_add(y)), I64, I64, I64),
            Opcode::Add(N::F32) => $apply!(|x, y| ok(x + y), F32, F32, F32),
            Opcode::Add(N::F64) => $apply!(|x, y| ok(x + y), F64, F64, F64),
            Opcode::Sub(N::I32) => $apply!(int32::sub, I32, I32, I32),
            Opcode::Sub(N::U32) => $apply!(|x: i32, y| ok(x.wrapping_sub(y)), I32, I32, I32),
            Opcode::Sub(N::I64) => $apply!(int64::sub, I64, I64, I64),
            Opcode::Sub(N::U64) => $apply!(|x: i64, y| ok(x.wrapping_sub(y)), I64, I64, I64),
            Opcode::Sub(N::F32) => $apply!(|x, y| ok(x - y), F32, F32, F32),
            Opcode::Sub(N::F64) => $apply!(|x, y| ok(x - y), F64, F64, F64),
            Opcode::Mul(N::I32) => $apply!(int32::mul, I32, I32, I32),
            Opcode::Mul(N::U32) => $apply!(|x: i32, y| ok(x.wrapping_mul(y)), I32, I32, I32),
            Opcode::Mul(N::I64) => $apply!(int64::mul, I64, I64, I64),
            Opcode::Mul(N::U64) => $apply!(|x: i64, y| ok(x.wrapping_mul(y)), I64, I64, I64),
            Opcode::Mul(N::F32) => $apply!(|x, y| ok(x * y), F32, F32, F32),
            Opcode::Mul(N::F64) => $apply!(|x, y| ok(x * y), F64, F64, F64),
            Opcode::Div(N::I32) => $apply!(int32::div, I32, I32, I32),
            Opcode::Div(N::U32) => $apply!(int32::unsigned_div, I32, I32, I32),
            Opcode::Div(N::I64) => $apply!(int64::div, I64, I64, I64),
            Opcode::Div(N::U64) => $apply!(int64::unsigned_div, I64, I64, I64),
            Opcode::Div(N::F32) => $apply!(k::single_div, F32, F32, F32),
            Opcode::Div(N::F64) => $apply!(k::real_div, F64, F64, F64),
            Opcode::Rem(N::I32) => $apply!(int32::rem, I32, I32, I32),
            Opcode::Rem(N::U32) => $apply!(int32::unsigned_rem, I32, I32, I32),
            Opcode::Rem(N::I64) => $apply!(int64::rem, I64, I64, I64),
            Opcode::Rem(N::U64) => $apply!(int64::unsigned_rem, I64, I64, I64),
            Opcode::And(N::I32 | N::U32) => $apply!(|x, y| ok(x & y), I32, I32, I32),
            Opcode::And(N::I64 | N::U64) => $apply!(|x, y| ok(x & y), I64, I64, I64),
            Opcode::Or(N::I32 | N::U32) => $apply!(|x, y| ok(x | y), I32, I32, I32),
            Opcode::Or(N::I64 | N::U64) => $apply!(|x, y| ok(x | y), I64, I64, I64),
            Opcode::Xor(N::I32 | N::U32) => $apply!(|x, y| ok(x ^ y), I32, I32, I32),
            Opcode::Xor(N::I64 | N::U64) => $apply!(|x, y| ok(x ^ y), I64, I64, I64),
            Opcode::Neg(N::I32) => $apply!(int32::neg, I32, I32),
            Opcode::Neg(N::U32) => $apply!(|x: i32| ok(x.wrapping_neg()), I32, I32),
            Opcode::Neg(N::I64) => $apply!(int64::neg, I64, I64),
            Opcode::Neg(N::U64) => $apply!(|x: i64| ok(x.wrapping_neg()), I64, I64),
            Opcode::Neg(N::F32) => $apply!(|x: f32| ok(-x), F32, F32),
            Opcode::Neg(N::F64) => $apply!(|x: f64| ok(-x), F64, F64),
            Opcode::Not(N::I32 | N::U32) => $apply!(|x: i32| ok(!x), I32, I32),
            Opcode::Not(N::I64 | N::U64) => $apply!(|x: i64| ok(!x), I64, I64),
            Opcode::Less(N::I32) => $apply!(|x, y| ok(i32::from(x < y)), I32, I32, I32),
            Opcode::Less(N::U32) => $apply!(|x, y| ok(i32::from((x as u32) < y as u32)), I32, I32, I32),
            Opcode::Less(N::I64) => $apply!(|x, y| ok(i32::from(x < y)), I32, I64, I64),
            Opcode::Less(N::U64) => $apply!(|x, y| ok(i32::from((x as u64) < y as u64)), I32, I64, I64),
            Opcode::Less(N::F32) => $apply!(|x, y| ok(i32::from(x < y)), I32, F32, F32),
            Opcode::Less(N::F64) => $apply!(|x, y| ok(i32::from(x < y)), I32, F64, F64),
            Opcode::LessEqual(N::I32) => $apply!(|x, y| ok(i32::from(x <= y)), I32, I32, I32),
            Opcode::LessEqual(N::U32) => $apply!(|x, y| ok(i32::from(x as u32 <= y as u32)), I32, I32, I32),
            Opcode::LessEqual(N::I64) => $apply!(|x, y| ok(i32::from(x <= y)), I32, I64, I64),
            Opcode::LessEqual(N::U64) => $apply!(|x, y| ok(i32::from(x as u64 <= y as u64)), I32, I64, I64),
            Opcode::LessEqual(N::F32) => $apply!(|x, y| ok(i32::from(x <= y)), I32, F32, F32),
            Opcode::LessEqual(N::F64) => $apply!(|x, y| ok(i32::from(x <= y)), I32, F64, F64),
            Opcode::Equal(N::I32 | N::U32) => $apply!(|x, y| ok(i32::from(x == y)), I32, I32, I32),
            Opcode::Equal(N::I64 | N::U64) => $apply!(|x, y| ok(i32::from(x == y)), I32, I64, I64),
            Opcode::Equal(N::F32) => $apply!(|x, y| ok(i32::from(x == y)), I32, F32, F32),
            Opcode::Equal(N::F64) => $apply!(|x, y| ok(i32::from(x == y)), I32, F64, F64),
            Opcode::Truth(N::I32 | N::U32) => $apply!(|x| ok(i32::from(x != 0)), I32, I32),
            Opcode::Truth(N::I64 | N::U64) => $apply!(|x| ok(i32::from(x != 0)), I32, I64),
            Opcode::Truth(N::F32) => $apply!(|x| ok(i32::from(x != 0.0)), I32, F32),
            Opcode::Truth(N::F64) => $apply!(|x| ok(i32::from(x != 0.0)), I32, F64),
            Opcode::Zero(N::I32 | N::U32) => $apply!(|x| ok(i32::from(x == 0)), I32, I32),
            Opcode::Zero(N::I64 | N::U64) => $apply!(|x| ok(i32::from(x == 0)), I32, I64),
            Opcode::Zero(N::F32) => $apply!(|x| ok(i32::from(x == 0.0)), I32, F32),
            Opcode::Zero(N::F64) => $apply!(|x| ok(i32::from(x == 0.0)), I32, F64),
            Opcode::Max(N::I32) => $apply!(|x: i32, y: i32| ok(x.max(y)), I32, I32, I32),
            Opcode::Max(N::I64) => $apply!(|x: i64, y: i64| ok(x.max(y)), I64, I64, I64),
            Opcode::NarrowReal => $apply!(|x: i64| ok(f64::from(x as i32)), F64, I64),
            Opcode::NarrowDiv => $apply!(|x: i64, y: f64| ok(f64::from(x as i32) / y), F64, I64, F64),
            Opcode::Both => $apply!(|x, y| ok(i32::from(x != 0 && y != 0)), I32, I32, I32),
            Opcode::Without => $apply!(|x, y| ok(i32::from(x != 0 && y == 0)), I32, I32, I32),
            Opcode::Either => $apply!(|x, y| ok(i32::from(x != 0 || y != 0)), I32, I32, I32),
            Opcode::Call(Func::Abs, N::I32) => $apply!(int32::abs, I32, I32),
            Opcode::Call(Func::Abs, N::I64) => $apply!(int64::abs, I64, I64),
            // Each way of running has its own form of these.
            Opcode::Shl(..)
            | Opcode::Shr(..)
            | Opcode::Select(_)
            | Opcode::Convert(..)
            | Opcode::MulShr(_)
            | Opcode::ShlDiv
            | Opcode::Curve(..)
            | Opcode::Call(..) => $other,
            // C has these for integers only, and the largest of two is fused for signed ones: no program has them.
            Opcode::Rem(N::F32 | N::F64)
            | Opcode::And(N::F32 | N::F64)
            | Opcode::Or(N::F32 | N::F64)
            | Opcode::Xor(N::F32 | N::F64)
            | Opcode::Not(N::F32 | N::F64)
            | Opcode::Max(N::U32 | N::U64 | N::F32 | N::F64) => $other,
        }
    };
}

pub(crate) use operations;
