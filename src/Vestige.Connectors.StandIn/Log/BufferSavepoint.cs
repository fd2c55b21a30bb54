namespace Vestige.Connectors.StandIn.Log;

/// <summary>A place in a <see cref="ChangeBuffer"/>.</summary>
internal readonly record struct BufferSavepoint(int Parts, int Open, int OpenCount, long Count, long ClosedBytes, long InMemory);
