namespace Vestige.Core.Expressions;

/// <summary>What a column's declared type means to an expression.</summary>
/// <param name="Type">The type its values have there.</param>
/// <param name="Single">Its values are IEEE 754 binary32: read as such and then widened, as a database does.</param>
/// <param name="Padded">Blanks at the end do not count.</param>
/// <param name="MayBeAbsent">A log may leave its value out of a change when it did not change.</param>
/// <param name="Json">Its texts are JSON.</param>
public readonly record struct ColumnMeaning(
    ExpressionType Type,
    bool Single = false,
    bool Padded = false,
    bool MayBeAbsent = false,
    bool Json = false
);
