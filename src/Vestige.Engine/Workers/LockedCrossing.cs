namespace Vestige.Engine.Workers;

/// <summary>A crossing that nobody else changes until this is let go.</summary>
internal sealed class LockedCrossing(CrossingEntry entry, IDisposable held) : IDisposable
{
    public CrossingEntry Entry => entry;

    public void Dispose() => held.Dispose();
}
