namespace Vestige.Engine.Ports;

/// <summary>How often a change reaches a target, whatever fails on the way. None of them ever loses one.</summary>
public enum Delivery
{
    /// <summary>Once: rows and position are written in one step.</summary>
    ExactlyOnce,

    /// <summary>Once in each table: the rows of one table and its position are written in one step, one table after the other.</summary>
    ExactlyOncePerTable,

    /// <summary>Once, and after a failure perhaps again, each time with the same identifier.</summary>
    AtLeastOnceWithId,
}
