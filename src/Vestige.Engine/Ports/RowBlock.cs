namespace Vestige.Engine.Ports;

/// <summary>Some rows of one table, as inserts in the form of <see cref="Core.Changes.ChangeWriter"/>.</summary>
public readonly record struct RowBlock(ReadOnlyMemory<byte> Rows, int Count);
