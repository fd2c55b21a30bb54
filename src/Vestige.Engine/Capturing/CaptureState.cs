using Vestige.Core.Positions;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Capturing;

/// <summary>How far a capture has read and whether it works, written by the capture and looked at from any thread.</summary>
internal sealed class CaptureState(string connection, Spool spool)
{
    private const int MostUnpassed = 10;

    /// <summary>
    /// A commit gets its time a little before it stands in the log: a server does both one after the other, for other sessions as well.
    /// </summary>
    private static readonly TimeSpan LateBy = TimeSpan.FromSeconds(1);
    private readonly Lock gate = new();
    private readonly RateSeries logGrowth = new();
    private readonly RateSeries spoolGrowth = new();
    private SourceHead? head;
    private DateTimeOffset sampledAt;
    private LogPosition captured = spool.Last;
    private readonly Queue<(LogPosition Written, DateTimeOffset At)> unpassed = [];
    private DateTimeOffset? provenAt;
    private DateTimeOffset? readThrough;
    private DateTimeOffset? firstUnspooled;
    private string? waiting;
    private DateTimeOffset? waitingSince;
    private DateTimeOffset? nextAttempt;
    private string? loss;

    public CaptureStatus Status
    {
        get
        {
            lock (gate)
            {
                return new CaptureStatus
                {
                    Connection = connection,
                    Running = waiting is null,
                    Waiting = waiting,
                    WaitingSince = waitingSince,
                    NextAttempt = nextAttempt,
                    LostPlace = loss is not null,
                    Head = LogPosition.Max(head?.Head ?? captured, captured),
                    Captured = captured,
                    Spooled = spool.Last,
                    PassedHead = head is not null && captured >= head.Head,
                    ProvenAt = provenAt,
                    ReadThrough = readThrough,
                    SampledAt = sampledAt,
                    FirstUncaptured = head is not null && captured < head.Head ? head.FirstUncaptured : null,
                    FirstUnspooled = firstUnspooled,
                    LogBytes = head?.HeldBytes ?? 0,
                    LogLimit = head?.LimitBytes,
                    SpoolBytes = spool.Bytes,
                    SpoolBudget = spool.Options.BudgetBytes,
                    BytesPerSecond = logGrowth.Latest,
                    LogGrowth = logGrowth.Range,
                    SpoolGrowth = spoolGrowth.Range,
                    ClockDifference = head is null ? TimeSpan.Zero : head.Now - sampledAt,
                };
            }
        }
    }

    /// <summary>The last sample of the source; null before the first.</summary>
    public SourceHead? Head
    {
        get
        {
            lock (gate)
            {
                return head;
            }
        }
    }

    /// <summary>Why the place in the log is lost; null while it is not.</summary>
    public string? Loss
    {
        get
        {
            lock (gate)
            {
                return loss;
            }
        }
    }

    public DateTimeOffset SampledAt
    {
        get
        {
            lock (gate)
            {
                return sampledAt;
            }
        }
    }

    public LogPosition Captured
    {
        get
        {
            lock (gate)
            {
                return captured;
            }
        }
    }

    public void Sample(SourceHead sample, DateTimeOffset now)
    {
        lock (gate)
        {
            if (head is { } before && before.Head.Branch != sample.Head.Branch)
            {
                logGrowth.Restart();
            }

            head = sample;
            sampledAt = now;
            logGrowth.Sample(now, (long)sample.Head.Offset);
            spoolGrowth.Sample(now, spool.Written);
            if (unpassed.Count < MostUnpassed)
            {
                unpassed.Enqueue((sample.Written ?? sample.Head, sample.Now));
            }

            Pass();
        }
    }

    public void ReadsFrom(LogPosition position)
    {
        lock (gate)
        {
            captured = position;
            firstUnspooled = null;
        }
    }

    public void Read(LogRead read, DateTimeOffset now)
    {
        lock (gate)
        {
            captured = LogPosition.Max(captured, read.Passed);
            if (read.Fragments.Count > 0)
            {
                firstUnspooled ??= read.Fragments[0].CommittedAt;
            }

            if (read.AtHead)
            {
                provenAt = now;
            }
        }
    }

    public void Spooled(LogPosition durable)
    {
        lock (gate)
        {
            firstUnspooled = durable >= captured ? null : firstUnspooled;
            Pass();
        }
    }

    private void Pass()
    {
        while (unpassed.TryPeek(out var sample) && sample.Written <= spool.Last)
        {
            readThrough = sample.At - LateBy;
            unpassed.Dequeue();
        }
    }

    /// <summary>Reading stopped for this reason; true when it did not wait for the same before.</summary>
    public bool Waits(string why, DateTimeOffset now, DateTimeOffset? next = null)
    {
        lock (gate)
        {
            nextAttempt = next;
            var isNew = waiting != why;
            waiting = why;
            waitingSince ??= now;
            return isNew;
        }
    }

    /// <summary>Reading works; true when it did not before.</summary>
    public bool Works()
    {
        lock (gate)
        {
            var again = waiting is not null;
            waiting = null;
            waitingSince = null;
            nextAttempt = null;
            return again;
        }
    }

    /// <summary>The place in the log is gone; said together with the reason, so that nobody sees the one without the other.</summary>
    public void Lost(string why, DateTimeOffset now)
    {
        lock (gate)
        {
            loss = why;
            waiting = why;
            waitingSince ??= now;
        }
    }

    public void Restart()
    {
        lock (gate)
        {
            loss = null;
            captured = LogPosition.Zero;
            unpassed.Clear();
            readThrough = null;
        }
    }
}
