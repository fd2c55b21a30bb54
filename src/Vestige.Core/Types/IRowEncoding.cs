using Vestige.Core.Changes;
using Vestige.Core.Expressions;
using Vestige.Core.Reconciling;

namespace Vestige.Core.Types;

/// <summary>How the rows of an engine hold values. Safe for several threads.</summary>
public interface IRowEncoding
{
    /// <summary>The form in which rows of two databases of the engine are equal exactly when they are the same to the byte.</summary>
    IRowForm RowForm { get; }

    /// <summary>Whether a value of the type is held as text, where it is one.</summary>
    bool HoldsAsText(LogicalType type);

    /// <summary>Whether a value of the type has one encoding only, so that two that differ in their bytes are two values.</summary>
    bool HasOneEncoding(LogicalType type);

    /// <summary>
    /// Writes a value that is not NULL as it is held here: the same value, and where a key may be made of it, always in the same bytes.
    /// False, with nothing written, where it is none of the type or would be another value here.
    /// </summary>
    /// <param name="type">What it is.</param>
    /// <param name="row">The row that holds it.</param>
    /// <param name="ordinal">The column of that row.</param>
    /// <param name="from">How that row holds its values.</param>
    /// <param name="into">Where it is written.</param>
    bool TryWrite(LogicalType type, Row row, int ordinal, IRowEncoding from, RowWriter into);

    /// <summary>Writes a value that an expression made; NULL for NULL.</summary>
    void Write(ExpressionType type, Datum value, RowWriter into);

    /// <summary>Writes what a person typed for a column of that meaning; a text that is no value of it stays a text.</summary>
    void WriteTyped(ExpressionType type, string text, RowWriter into);
}
