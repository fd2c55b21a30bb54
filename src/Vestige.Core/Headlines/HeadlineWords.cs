namespace Vestige.Core.Headlines;

/// <summary>The words of headlines, the same on pages, in the API, in alerts and in metrics.</summary>
public static class HeadlineWords
{
    /// <summary>The word as a person reads it, in lower case.</summary>
    public static string Text(this HeadlineWord word) =>
        word switch
        {
            HeadlineWord.PlaceLost => "place lost",
            HeadlineWord.SourceWritesFail => "source writes fail",
            HeadlineWord.LogAtRisk => "log at risk",
            HeadlineWord.StorageFull => "storage full",
            HeadlineWord.CatchingUp => "catching up",
            _ => word.ToString().ToLowerInvariant(),
        };

    /// <summary>What to do, in lower case, as programs read it.</summary>
    public static string Text(this HeadlineAction action) =>
        action switch
        {
            HeadlineAction.OpenHeld => "decide about held tables",
            HeadlineAction.RetryNow => "retry now",
            HeadlineAction.OpenQuarantine => "decide about quarantine",
            HeadlineAction.OpenDifferences => "look at differing rows",
            HeadlineAction.OpenSource => "look at the source",
            HeadlineAction.OpenDelay => "look at the delay",
            _ => action.ToString().ToLowerInvariant(),
        };
}
