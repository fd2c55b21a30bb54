namespace Vestige.Engine.Reconciling;

/// <summary>What a repair did to one row.</summary>
/// <param name="Repair">The repair.</param>
/// <param name="Row">The row, which it changed.</param>
public sealed record RowRepair(Repair Repair, RepairedRow Row)
{
    /// <summary>What it did, in words.</summary>
    public string Words =>
        (Row.Before.IsNone, Row.After.IsNone, Repair.Undoes is null) switch
        {
            (true, _, true) => "written, as it was missing",
            (_, true, true) => "deleted, as only the target had it",
            (_, _, true) => "given the source's values",
            (true, _, _) => "put back, after a repair had deleted it",
            (_, true, _) => "deleted again, after a repair had written it",
            _ => "given the values back that a repair had changed",
        };
}
