using Vestige.Core.Joining;
using Vestige.Core.Positions;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Tests.Simulation;

/// <summary>
/// The logs that a simulated source has had, one after the other, and how each went over into the next. Identities count the branches,
/// so that a position with its identity means the same whoever numbered the branches how.
/// </summary>
public sealed class SimMoves
{
    private readonly Dictionary<int, ulong> shifts = [];

    /// <summary>The number of the present log.</summary>
    public int Branch { get; private set; }

    public LogIdentity Identity => IdentityOf(Branch);

    public LogIdentity Next => IdentityOf(Branch + 1);

    /// <summary>Everything of the present log is written again by another server, its transactions at other offsets.</summary>
    public void Renumber(ulong shift)
    {
        shifts[Branch] = shift;
        Branch++;
    }

    /// <summary>The present log has ended, and another has begun.</summary>
    public void End() => Branch++;

    /// <summary>Where a position of the log of an identity lies in the log that has it now.</summary>
    public LogPosition Now(LogPosition position, LogIdentity? identity)
    {
        var branch = (int)((identity?.Timeline ?? 1) - 1);
        var offset = position.Offset;
        for (; shifts.TryGetValue(branch, out var shift); branch++)
        {
            offset += shift;
        }

        return new LogPosition(branch, offset);
    }

    /// <summary>What the source says of a token.</summary>
    public LogContinuity Continue(ResumeToken token)
    {
        var now = Now(new LogPosition(ulong.Parse(token.Text, System.Globalization.CultureInfo.InvariantCulture)), token.Identity);
        return token.Identity == Identity ? new LogContinuity.Same()
            : now.Branch == Branch ? new LogContinuity.NewBranch(Identity, now.Offset)
            : new LogContinuity.Lost(Identity, "It is another log.");
    }

    /// <summary>A join of the present log with the next one.</summary>
    public JoinPoint JoinAt(ulong end, ulong begin, JoinKind kind) => new(Identity, end, Next, begin, JoinEvidence.Complete(kind));

    private static LogIdentity IdentityOf(int branch) => new("sim", branch + 1);
}
