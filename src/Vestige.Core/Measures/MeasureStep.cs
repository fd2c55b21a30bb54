namespace Vestige.Core.Measures;

/// <summary>How finely measures are kept: how long a slot is, how many stand in one block, and how long blocks are kept.</summary>
/// <param name="Slot">The length of a slot.</param>
/// <param name="Block">The length of a block; a multiple of a slot.</param>
/// <param name="Kept">For how long.</param>
public sealed record MeasureStep(TimeSpan Slot, TimeSpan Block, TimeSpan Kept)
{
    public static MeasureStep Second { get; } = new(TimeSpan.FromSeconds(1), TimeSpan.FromMinutes(1), TimeSpan.FromHours(1));

    public static MeasureStep Minute { get; } = new(TimeSpan.FromMinutes(1), TimeSpan.FromHours(1), TimeSpan.FromDays(8));

    public static MeasureStep Hour { get; } = new(TimeSpan.FromHours(1), TimeSpan.FromDays(1), TimeSpan.FromDays(730));

    public static IReadOnlyList<MeasureStep> All { get; } = [Second, Minute, Hour];

    /// <summary>The finest step of which everything within a window up to now is kept.</summary>
    public static MeasureStep For(TimeSpan window) => All.FirstOrDefault(step => step.Kept >= window) ?? Hour;

    /// <summary>The beginning of the slot that a moment lies in.</summary>
    public DateTimeOffset SlotOf(DateTimeOffset moment) => Floor(moment, Slot);

    /// <summary>The beginning of the block that a moment lies in.</summary>
    public DateTimeOffset BlockOf(DateTimeOffset moment) => Floor(moment, Block);

    private static DateTimeOffset Floor(DateTimeOffset moment, TimeSpan length) =>
        new(moment.UtcTicks - (moment.UtcTicks % length.Ticks), TimeSpan.Zero);
}
