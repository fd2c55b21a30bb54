namespace Vestige.Web.Quarantining;

/// <summary>One column of a change in quarantine.</summary>
/// <param name="Column">Its name.</param>
/// <param name="Type">Its type at the source.</param>
/// <param name="Before">The value before; null where there is no row before or the log left it out.</param>
/// <param name="After">The value after; the same.</param>
/// <param name="Masked">Whether a mask stands on it, so that the values are told by type and length only.</param>
/// <param name="Editable">Whether it can be edited.</param>
/// <param name="IsNull">Whether the value after is NULL.</param>
public sealed record WaitingValue(string Column, string Type, string? Before, string? After, bool Masked, bool Editable, bool IsNull);
