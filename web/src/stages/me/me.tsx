import { useMe } from "../../api/queries";
import { DeskFrame } from "../../parts/desk-frame";
import { Password } from "./password";
import { Sessions } from "./sessions";
import { Tokens } from "./tokens";

/** Me is where one changes one's password, and ends sessions and tokens. */
export default function Me() {
  const me = useMe().data;
  return (
    <DeskFrame title={me?.email ?? ""} lead="How do you get in, and who else gets in as you?">
      <Password />
      <Sessions />
      <Tokens />
    </DeskFrame>
  );
}
