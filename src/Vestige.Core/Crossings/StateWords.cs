namespace Vestige.Core.Crossings;

/// <summary>The words for states: the same on pages, in the API and in events.</summary>
public static class StateWords
{
    public static string Word(this CrossingState state) =>
        state switch
        {
            CrossingState.CatchingUp => "catching up",
            _ => state.ToString().ToLowerInvariant(),
        };

    public static string Word(this TableState state) =>
        state switch
        {
            TableState.CatchingUp => "catching up",
            TableState.LeftOut => "left out",
            _ => state.ToString().ToLowerInvariant(),
        };
}
