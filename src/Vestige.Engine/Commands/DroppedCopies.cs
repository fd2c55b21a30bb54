using Vestige.Engine.Faults;
using Vestige.Engine.Undoing;

namespace Vestige.Engine.Commands;

/// <summary>That copies are dropped.</summary>
/// <param name="UndoHours">
/// For how many hours they can be restored, <see cref="UndoEntry.LeastHours"/> to <see cref="UndoEntry.MostHours"/>; null to drop them at
/// once.
/// </param>
public sealed record DroppedCopies(int? UndoHours = null)
{
    internal void ThrowIfOutOfRange()
    {
        if (UndoHours is < UndoEntry.LeastHours or > UndoEntry.MostHours)
        {
            throw new RequestRefusedException($"Dropped tables cannot be kept for {UndoHours} hours.")
            {
                Remedy = $"Give {UndoEntry.LeastHours} to {UndoEntry.MostHours} hours.",
            };
        }
    }
}
