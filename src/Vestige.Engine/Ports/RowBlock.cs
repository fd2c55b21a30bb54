namespace Vestige.Engine.Ports;

/// <summary>Some rows of one table.</summary>
/// <param name="Rows">
/// The rows as inserts in the form of <see cref="Core.Changes.ChangeWriter"/>, their relation 0; or in an engine's own form.
/// </param>
/// <param name="Count">How many.</param>
/// <param name="Encoding">The engine's own form they are in; null for the common one.</param>
public readonly record struct RowBlock(ReadOnlyMemory<byte> Rows, int Count, string? Encoding = null);
