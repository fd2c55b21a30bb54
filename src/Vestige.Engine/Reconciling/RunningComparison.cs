using Vestige.Core.Schemas;

namespace Vestige.Engine.Reconciling;

/// <summary>A comparison at work: what it has found so far, and how it is ended. Read by any thread, written by its own.</summary>
internal sealed class RunningComparison(Reconciliation began, bool isWalk) : IDisposable
{
    public bool IsWalk => isWalk;

    private volatile Reconciliation now = began;
    private volatile Tuple<TableName, int, int>? at;
    private volatile IReadOnlyList<TableFinding> soFar = [];

    /// <summary>What was found so far of the table at work.</summary>
    public IReadOnlyList<TableFinding> SoFar
    {
        set => soFar = value;
    }

    /// <summary>With what was found so far of the table at work.</summary>
    public Reconciliation Shown => now with { Tables = [.. now.Tables, .. soFar] };

    public Reconciliation Now
    {
        get => now;
        set => now = value;
    }

    public (TableName Table, int Part, int Of)? At
    {
        get => at is { } now ? (now.Item1, now.Item2, now.Item3) : null;
        set => at = value is { } now ? Tuple.Create(now.Table, now.Part, now.Of) : null;
    }

    public CancellationTokenSource Ending { get; } = new();

    public Task Work { get; set; } = Task.CompletedTask;

    public void Dispose() => Ending.Dispose();
}
