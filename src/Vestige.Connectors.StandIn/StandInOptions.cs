namespace Vestige.Connectors.StandIn;

/// <summary>How a stand-in keeps its log, in bytes.</summary>
/// <param name="LogLimit">Beyond this the oldest log is dropped, read or not.</param>
/// <param name="LogSpan">This much is kept even when everything was confirmed.</param>
public sealed record StandInOptions(long LogLimit = 256L << 20, long LogSpan = 16L << 20);
