using Vestige.Core.Positions;
using Vestige.Engine.Faults;

namespace Vestige.Engine.Spooling;

/// <summary>Reads what a spool has between two positions.</summary>
internal static class SpoolSpan
{
    private const int ReadBytes = 1 << 20;

    /// <summary>
    /// Gives what was committed after one position up to and with another, in log order; the spool holds both. Throws
    /// <see cref="PortException"/> when it cannot be read so far now.
    /// </summary>
    public static async Task ReadAsync(
        Spool spool,
        LogPosition after,
        LogPosition upTo,
        Action<SpooledFragment> take,
        CancellationToken cancellation
    )
    {
        if (after >= upTo)
        {
            return;
        }

        var reader = spool.ReadAfter(after);
        while (await reader.TryReadAsync(ReadBytes, cancellation) is { Count: > 0 } fragments)
        {
            foreach (var fragment in fragments)
            {
                if (fragment.Position > upTo)
                {
                    return;
                }

                take(fragment);
                if (fragment.Position == upTo && fragment.Last)
                {
                    return;
                }
            }
        }

        // A spool that is being recovered cannot be read. That does not mean that nothing happened.
        throw new PortException("The spool cannot be read that far now.") { Transient = true, Remedy = "Try again." };
    }
}
