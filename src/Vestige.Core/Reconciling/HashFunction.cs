namespace Vestige.Core.Reconciling;

/// <summary>Makes 128 bits of bytes, the same of the same. Safe for several threads.</summary>
public delegate UInt128 HashFunction(ReadOnlySpan<byte> bytes);
