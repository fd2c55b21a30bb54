namespace Vestige.Web.Reconciling;

/// <summary>A column of a row that differs, as it is shown.</summary>
/// <param name="Column">The target's column.</param>
/// <param name="Type">Its type.</param>
/// <param name="Expected">
/// The value that the target should have, in pieces that differ or not; null when the row should not be there.
/// </param>
/// <param name="Found">The value that it has; null when the row is not there.</param>
/// <param name="Differs">Whether both differ.</param>
/// <param name="Masked">Whether only type and length are shown.</param>
public sealed record ComparedValue(
    string Column,
    string Type,
    IReadOnlyList<(string Text, bool Differs)>? Expected,
    IReadOnlyList<(string Text, bool Differs)>? Found,
    bool Differs,
    bool Masked
);
