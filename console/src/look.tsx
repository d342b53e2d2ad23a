import { App, ConfigProvider, theme } from "antd";
import { createContext, useContext, useEffect, useLayoutEffect, useMemo, useState, type ReactNode } from "react";
import { themeFor, tones, variablesOf } from "./theme";

type Choice = "light" | "dark" | "system";

interface Look {
  dark: boolean;
  choice: Choice;
  choose: (c: Choice) => void;
}

const LookContext = createContext<Look>({ dark: false, choice: "system", choose: () => {} });

export const useLook = () => useContext(LookContext);

export function useTones() {
  return useLook().dark ? tones.dark : tones.light;
}

const stored = "plumlatch-look";
const systemDark = window.matchMedia("(prefers-color-scheme: dark)");

/** Light or dark, as the person chose or as the system says. */
export function LookProvider({ children }: { children: ReactNode }) {
  const [choice, setChoice] = useState<Choice>(() => (localStorage.getItem(stored) as Choice | null) ?? "system");
  const [system, setSystem] = useState(systemDark.matches);
  useEffect(() => {
    const follow = () => setSystem(systemDark.matches);
    systemDark.addEventListener("change", follow);
    return () => systemDark.removeEventListener("change", follow);
  }, []);
  const dark = choice === "dark" || (choice === "system" && system);
  const config = useMemo(() => themeFor(dark), [dark]);
  const look = useMemo(
    () => ({
      dark,
      choice,
      choose: (c: Choice) => {
        localStorage.setItem(stored, c);
        setChoice(c);
      },
    }),
    [dark, choice],
  );
  useLayoutEffect(() => {
    const { style } = document.documentElement;
    style.colorScheme = dark ? "dark" : "light";
    for (const [name, value] of Object.entries(variablesOf(theme.getDesignToken(config), dark)))
      style.setProperty(`--${name}`, value);
  }, [dark, config]);
  return (
    <LookContext.Provider value={look}>
      <ConfigProvider theme={config}>
        <App>{children}</App>
      </ConfigProvider>
    </LookContext.Provider>
  );
}
