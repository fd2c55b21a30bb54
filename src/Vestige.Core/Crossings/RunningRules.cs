namespace Vestige.Core.Crossings;

/// <summary>What holds for the parts of a definition that say how it runs: quarantine, comparing, schedule, limit, rest and tags.</summary>
internal static class RunningRules
{
    public static IEnumerable<DefinitionProblem> Problems(CrossingDefinition definition) =>
        QuarantineProblems(definition.Quarantine).Concat(ReconcileProblems(definition.Reconcile)).Concat(PaceProblems(definition));

    private static IEnumerable<DefinitionProblem> QuarantineProblems(QuarantineRule? rule)
    {
        if (rule is { Rows: null, Percent: null })
        {
            yield return new DefinitionProblem(
                "quarantine",
                "neither rows nor percent",
                "Give a limit, or leave the field out to stop at the first refused row."
            );
        }

        if (rule is { Rows: < 1 or > QuarantineRule.MostChanges })
        {
            yield return new DefinitionProblem("quarantine.rows", $"it is {rule.Rows}", $"Give 1 to {QuarantineRule.MostChanges}.");
        }

        if (rule is { Percent: <= 0 or > 100 })
        {
            yield return new DefinitionProblem(
                "quarantine.percent",
                FormattableString.Invariant($"it is {rule.Percent}"),
                "Give a share above 0, at most 100."
            );
        }
    }

    private static IEnumerable<DefinitionProblem> ReconcileProblems(ReconcileRule? rule)
    {
        if (rule is { Every: null, Cron: null })
        {
            yield return new DefinitionProblem(
                "reconcile",
                "neither every nor cron",
                "Say how often, or leave the field out to compare only when asked."
            );
        }

        if (rule?.Every is not (null or (>= 60 and <= 366 * 86_400)))
        {
            yield return new DefinitionProblem(
                "reconcile.every",
                FormattableString.Invariant($"it is {rule!.Every}"),
                "Give seconds, at least 60 and at most a year."
            );
        }

        if (rule?.RowsPerSecond is not (null or (>= 100 and <= 100_000_000)))
        {
            yield return new DefinitionProblem(
                "reconcile.rowsPerSecond",
                FormattableString.Invariant($"it is {rule!.RowsPerSecond}"),
                "Give at least 100."
            );
        }

        if (rule?.Share is not (null or (> 0 and <= 100)))
        {
            yield return new DefinitionProblem(
                "reconcile.share",
                FormattableString.Invariant($"it is {rule!.Share}"),
                "Give a share above 0, at most 100."
            );
        }
    }

    private static IEnumerable<DefinitionProblem> PaceProblems(CrossingDefinition definition)
    {
        if (definition.Schedule is { } schedule && schedule.EverySeconds is null == string.IsNullOrWhiteSpace(schedule.Cron))
        {
            yield return new DefinitionProblem("schedule", "neither or both of cron and everySeconds", "Give exactly one of them.");
        }

        if (definition.Schedule is not null && definition.EndsByItself)
        {
            yield return new DefinitionProblem("schedule", "the crossing ends on its own", "Remove the schedule, or replicate changes.");
        }

        if (definition.ChangesPerSecond is not (null or (>= 0.1 and <= 1e9)))
        {
            yield return new DefinitionProblem(
                "changesPerSecond",
                FormattableString.Invariant($"it is {definition.ChangesPerSecond}"),
                "Give 0.1 or more, or leave it out."
            );
        }

        if (definition.LoadLagSeconds is not (null or (>= 0.1 and <= 86_400)))
        {
            yield return new DefinitionProblem(
                "loadLagSeconds",
                FormattableString.Invariant($"it is {definition.LoadLagSeconds}"),
                "Give 0.1 to 86400 seconds, or leave it out."
            );
        }

        for (var i = 0; i < (definition.Rest?.Count ?? 0); i++)
        {
            if (
                definition.Rest![i] is not { } window
                || window.From == window.To
                || !TimeZoneInfo.TryFindSystemTimeZoneById(window.Zone, out _)
            )
            {
                yield return new DefinitionProblem(
                    $"rest[{i}]",
                    "it has no length, or its time zone is not known here",
                    "Give from and to, and an IANA name such as Europe/Vienna, or UTC."
                );
            }
        }

        foreach (var tag in (definition.Tags ?? []).Where(tag => DefinitionRules.NameProblem(tag) is not null))
        {
            yield return new DefinitionProblem("tags", $"'{tag}': {DefinitionRules.NameProblem(tag)}", DefinitionRules.NameRemedy);
        }
    }
}
