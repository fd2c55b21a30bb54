using System.Collections.Concurrent;
using Vestige.Core.Joining;
using Vestige.Core.Positions;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Capturing;

/// <summary>
/// The branches of one spool, one after the other: which log is read, where it ends, and which one continues. Joins are asked for by any
/// thread; all else is called by the capture alone.
/// </summary>
internal sealed class BranchSequence(string connection, Spool spool, AsyncSignal turned, EventLog events, TimeProvider clock)
{
    private readonly ConcurrentQueue<JoinRequest> joins = new();

    /// <summary>Asks for a join; decided when the capture comes to it.</summary>
    public JoinRequest Ask(JoinPoint join)
    {
        var asked = new JoinRequest(join);
        joins.Enqueue(asked);
        return asked;
    }

    /// <summary>Whether reading must end so that a join is decided or the next branch begins.</summary>
    public bool HasNext => !joins.IsEmpty || AtEnd;

    private bool AtEnd => spool.Join is { } join && spool.Last.Offset == join.End;

    /// <summary>
    /// Decides the joins that were asked for, and begins the next branch where this one has been read to its end; true then. Called
    /// between two readings of the log, so that nothing is read while a branch is ended.
    /// </summary>
    public async Task<bool> TakeJoinsAsync(CancellationToken cancellation)
    {
        while (joins.TryPeek(out var asked))
        {
            try
            {
                await spool.SealAsync(asked.Join, cancellation);
                asked.Decide(refusal: null);
            }
            catch (RequestRefusedException refusal)
            {
                asked.Decide(refusal);
            }

            joins.TryDequeue(out _);
            turned.Beat();
        }

        if (!AtEnd)
        {
            return false;
        }

        var join = spool.Join!;
        await spool.BeginBranchAsync(cancellation);
        await events.OfConnectionAsync(connection, EventKind.Note, $"The log {join.Old} has been read to its end; {join.New} follows.");
        return true;
    }

    /// <summary>
    /// Makes certain that the source's log is the one that the spool continues, and begins an empty spool; true where another branch
    /// began. Throws <see cref="PlaceLostException"/> where it is another log.
    /// </summary>
    /// <param name="source">The source.</param>
    /// <param name="head">The identity of the log that was sampled last; never null where the spool is empty.</param>
    /// <param name="cancellation">Gives up.</param>
    public async Task<bool> AgreeAsync(ILogSource source, LogIdentity? head, CancellationToken cancellation)
    {
        if (spool.Identity is not { } identity)
        {
            var begin = await source.BeginLogAsync(cancellation);
            if ((await source.SampleAsync(begin.Position, cancellation)).Identity != head)
            {
                // The connection was led to another system just now: nobody knows of which of them the position is.
                throw Another();
            }

            await spool.StartAsync(head!, begin.Position, cancellation, begin.Token);
            return false;
        }

        var token = new ResumeToken(identity, spool.Token ?? source.Format(spool.Last));
        switch (await source.ContinueAsync(token, cancellation))
        {
            case LogContinuity.NewBranch next:
                await spool.SealAsync(
                    new JoinPoint(token.Identity, spool.Last.Offset, next.Identity, next.Begin, JoinEvidence.Complete(JoinKind.Continued))
                    {
                        BeginToken = next.Token,
                    },
                    cancellation
                );
                return await TakeJoinsAsync(cancellation);
            case LogContinuity.Lost lost when spool.Branches.Any(branch => branch.IsSealed && branch.Identity == lost.Identity):
                throw new PortException($"The source's log is still {lost.Identity}; {token.Identity} is to follow.")
                {
                    Transient = true,
                    Remedy = "Lead the connection to the new system.",
                };
            case LogContinuity.Lost lost:
                throw new PlaceLostException($"The source's log is now {lost.Identity}; the spool is of {token.Identity}. {lost.Why}")
                {
                    Remedy = "Load the crossings of this source again.",
                };
            default:
                return false;
        }
    }

    /// <summary>
    /// The part of a read that lies before the end of the branch, and all of it where no end is known. At the end stands an empty
    /// transaction where there is none.
    /// </summary>
    public LogRead UpToEnd(LogRead read)
    {
        if (spool.Join is not { } join)
        {
            return read;
        }

        var end = spool.Last.At(join.End);
        List<LogFragment> kept = [.. read.Fragments.TakeWhile(fragment => fragment.Position <= end)];
        if (read.Passed >= end && spool.Last < end && (kept.Count == 0 || (kept[^1].Last && kept[^1].Position < end)))
        {
            kept.Add(new LogFragment(end, clock.GetUtcNow(), First: true, Last: true, 0, default));
        }

        return read with
        {
            Fragments = kept,
            Passed = LogPosition.Min(read.Passed, end),
            Versions = [.. read.Versions.Where(version => version.From <= end)],
        };
    }

    /// <summary>What is thrown where the connection was led to another system between two questions.</summary>
    public PortException Another() =>
        new($"The log of {connection} is another than before.") { Transient = true, Remedy = "Retrying automatically." };
}
